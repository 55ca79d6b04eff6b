"""What goes to the child that shares frames out, and what comes back."""

from __future__ import annotations

from pathlib import Path

from pydantic import BaseModel

from mill_lane.store.files import Taken
from mill_lane.work.kinds.render_parts import Request, Result


class SpreadRequest(BaseModel):
    """Frames for the workers of a scheduler.

    Attributes
    ----------
    scheduler : str
        Its address.
    frames : list of int
        Those that are left, in their order.
    frame : Request
        What is asked for each, but for its number and key.
    scene, sky : str
        Files by their content; an empty sky for none.
    files : dict
        Where those lie here.
    store, folder : Path
        The content store, and the task's own folder.
    """

    scheduler: str
    frames: list[int]
    frame: Request
    scene: str
    sky: str
    files: dict[str, Path]
    store: Path
    folder: Path

    def asked(self, frame: int) -> Request:
        """What is asked for a frame."""
        return self.frame.model_copy(update={"frame": frame, "key": f"{self.frame.key}:{frame}"})


class FrameDone(BaseModel):
    """A frame that came back, its files ready to be kept."""

    frame: int
    result: Result
    taken: dict[str, Taken]


class SpreadResult(BaseModel):
    """Frames that came back, and those that did not with why.

    `memory` says whether one of them failed for want of memory, `stopped` whether frames are left
    because somebody wanted it to stop.
    """

    frames: list[FrameDone] = []
    lost: dict[int, str] = {}
    memory: bool = False
    stopped: bool = False
