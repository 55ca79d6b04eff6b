"""The command line: a module for each command, over the same services and core as the pages."""

from __future__ import annotations

from mill_lane.cli.main import main

__all__ = ["main"]
