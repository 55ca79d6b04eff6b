"""A server as a process that is forked; see `tests.browser.preload`."""

from __future__ import annotations

import os
import sys

from mill_lane.cli.main import main


def serve(arguments: list[str], environment: dict[str, str], folder: str) -> None:
    """Be `mill-lane serve` in a group of its own, and say nothing."""
    os.setsid()
    os.environ.clear()
    os.environ.update(environment)
    os.chdir(folder)
    nothing = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nothing, sys.stdout.fileno())
    sys.exit(main(["serve", *arguments]))
