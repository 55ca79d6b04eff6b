"""How a server was started."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from mill_lane.store.home import Home
from mill_lane.work.supervisor import Watch

LOCAL = ("127.0.0.1", "localhost", "[::1]", "::1")


@dataclass(frozen=True)
class Settings:
    """How a server was started.

    Attributes
    ----------
    home : Home
        The installation.
    scenes : Path or None
        A folder of scenes that may be opened from.
    frames : Path or None
        A folder where frames are read and written; None for the home's own.
    hosts : tuple of str
        Names that are answered to.
    token : str
        The password that is asked for beyond this computer; empty where nobody else can ask.
    scheduler : str
        The address of a scheduler whose workers may render frames; empty for none.
    watch : callable or None
        How the worker is; None where there is none.
    """

    home: Home
    scenes: Path | None = None
    hosts: tuple[str, ...] = field(default=LOCAL)
    token: str = ""
    watch: Callable[[], Watch] | None = None
    frames: Path | None = None
    scheduler: str = ""

    @property
    def frames_folder(self) -> Path:
        """Where frames are read and written, by their names."""
        return self.frames if self.frames is not None else self.home.frames
