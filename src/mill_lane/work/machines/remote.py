"""What another machine does: it keeps files by their content, and renders frames of them.

These functions run in a worker of the scheduler, which has to have the same edition installed.
"""

from __future__ import annotations

import os
import socket
import tempfile
import threading
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mill_lane import __version__
from mill_lane.core.compiled import cache_base
from mill_lane.store.files import file_hash
from mill_lane.work.kinds.base import Unheard
from mill_lane.work.kinds.render_parts import Output, Request

MOST_KEPT = 20 * 10**9  # bytes of scenes and skies; the ones used least recently go
THREADS = "MILL_LANE_THREADS"  # in the environment: threads of a frame; else all but one
# One frame at a time in a process: times compare, and one scene is in memory.
_alone = threading.Lock()


class MissingError(Exception):
    """Raised where a file has not been sent to this machine yet."""


class Made(BaseModel):
    """A frame as it is sent back: what was measured, and the files by name, `written` among them
    by their names below the folder of frames.
    """

    frame: int
    machine: str
    measured: dict[str, Any]
    files: dict[str, bytes]
    written: list[str]


class _Silent(Unheard):
    """A frame that is no longer wanted is passed over when it is done; another machine may have
    the room that this one has not.
    """

    def wait_for_room(self, share: float, why: str = "the disk is full") -> None:
        """Fail."""
        raise OSError(why)


def edition() -> str:
    """The edition that is installed here."""
    return __version__


def folder() -> Path:
    """Where this machine keeps what it was sent."""
    place = cache_base() / "machines"
    place.mkdir(parents=True, exist_ok=True)
    return place


def has(digest: str) -> bool:
    """Whether a file is there."""
    return (folder() / digest).exists()


def take(digest: str, part: str, offset: int, data: bytes, last: bool) -> None:
    """Take a piece of a file; with the last one it is looked over and kept.

    Raises
    ------
    OSError
        Where what came is not what was sent.
    """
    path = folder() / f"{digest}.{part}.part"
    with path.open("r+b" if offset else "wb") as f:
        f.seek(offset)
        f.write(data)
    if last:
        if file_hash(path, sync=True) != digest:
            path.unlink()
            raise OSError(f"{digest} came damaged")
        path.replace(folder() / digest)
        _sweep(digest)


def _sweep(newest: str) -> None:
    """Let go of what was used least recently, beyond what is kept at most."""
    files = sorted((p for p in folder().iterdir() if p.is_file()), key=lambda p: p.stat().st_atime)
    total = sum(p.stat().st_size for p in files)
    for path in files:
        if total <= MOST_KEPT:
            return
        if path.name != newest:
            total -= path.stat().st_size
            path.unlink(missing_ok=True)


def render_frame(asked: str, scene: str, sky: str) -> Made:
    """Render a frame.

    Parameters
    ----------
    asked : str
        A `Request` as JSON; its paths are those of the machine that asks.
    scene, sky : str
        The files by their content; an empty sky for none.

    Raises
    ------
    MissingError
        Naming the file that is not here.
    MemoryError, MillError
        As rendering does.
    """
    from mill_lane.work.rendering import render

    for digest in filter(None, (scene, sky)):
        if not has(digest):
            raise MissingError(digest)
        os.utime(folder() / digest)
    request = Request.model_validate_json(asked)
    assert request.output is not None
    with _alone, tempfile.TemporaryDirectory(dir=folder(), prefix="frame-") as name:
        own, out = Path(name), Path(name) / "out"
        here = {
            "scene": folder() / scene,
            "sky": folder() / sky if sky else None,
            "folder": own,
            "threads": threads(),
            "output": Output(sheet=request.output.sheet, folder=out),
        }
        result = render(request.model_copy(update=here), _Silent())
        written = sorted(p.relative_to(out).as_posix() for p in out.rglob("*") if p.is_file())
        paths = {"picture": result.picture, "exr": result.exr}
        paths |= {name: layer.path for name, layer in result.layers.items()}
        paths |= {f"out/{w}": out / w for w in written}
        return Made(
            frame=request.frame,
            machine=socket.gethostname(),
            measured=result.measured,
            files={name: path.read_bytes() for name, path in paths.items()},
            written=written,
        )


def threads() -> int:
    """Threads of a frame on this machine: all but one, or what its environment says."""
    wanted = os.environ.get(THREADS, "")
    return max(1, int(wanted) if wanted.isdigit() else len(os.sched_getaffinity(0)) - 1)
