"""How a server was started."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from mill_lane.store.home import Home

LOCAL = ("127.0.0.1", "localhost", "[::1]", "::1")


@dataclass(frozen=True)
class Settings:
    """The installation, a folder of scenes that may be opened from, and names that are
    answered to.
    """

    home: Home
    scenes: Path | None = None
    hosts: tuple[str, ...] = field(default=LOCAL)
