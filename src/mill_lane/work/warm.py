"""Compiling the kernels before anybody waits for them, by rendering a tiny scene that uses each of
them.
"""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.progress import Progress, silent
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.jit import cache_folder
from mill_lane.core.render.load import load
from mill_lane.core.render.session import Session
from mill_lane.demo.make import make_demo

USUAL_SECONDS = 40.0  # on two cores, when nothing is cached; only for the progress bar
TRIANGLE = "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"  # has the reader of OBJ compiled
BEHIND = 15  # niceness of compiling
_ready = threading.Event()


def compile_readers() -> None:
    """Have the readers compiled that scan text."""
    with tempfile.TemporaryDirectory() as folder:
        triangle = Path(folder) / "warm.obj"
        triangle.write_text(TRIANGLE)
        open_scene(triangle)


def _start_readers() -> subprocess.Popen[bytes] | None:
    """Compile readers beside the renderer: in another process, since the compiler has one lock."""
    with contextlib.suppress(OSError):
        return subprocess.Popen([sys.executable, "-m", __spec__.name], stdin=subprocess.DEVNULL)
    return None


def complete() -> bool:
    """Whether all kernels of these sources were compiled, and are kept: they only are to be
    loaded.
    """
    try:
        return int(_mark().read_text()) <= _kept()
    except (OSError, ValueError):
        return False


def _mark() -> Path:
    return cache_folder() / "complete"


def _kept() -> int:
    return sum(1 for _ in cache_folder().rglob("*.nbc"))


def prepare(progress: Progress, behind: int = BEHIND) -> float:
    """Have every kernel ready in this process; returns the seconds it took.

    Later calls return at once.  `behind` is the niceness of what compiles.
    """
    if _ready.is_set():
        return 0.0
    cold = not any(cache_folder().rglob("tiles.render_tiles*"))
    readers = _start_readers() if cold else None
    start = time.perf_counter()
    failure: list[BaseException] = []

    def work() -> None:
        # What reads and builds beside it goes first: that is looked at while this goes on.
        with contextlib.suppress(OSError, AttributeError):
            os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), behind)
        try:
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "warm.glb"
                make_demo(path, "small", 1)
                session = Session(
                    load(open_scene(path), 1), Recipe(width=32, height=18, samples=2, min_samples=1)
                )
                while not session.done:
                    session.step(1.0)
                session.noise()
                session.layers()
        except BaseException as e:
            failure.append(e)

    thread = threading.Thread(target=work)
    thread.start()
    while thread.is_alive():
        thread.join(0.3)
        spent = time.perf_counter() - start
        # What another copy of these sources compiled does not count here; loading never takes this
        # long.
        cold = cold or spent > 10
        progress(
            min(0.97, spent / (USUAL_SECONDS if cold else 10.0)),
            "compiling the renderer, once" if cold else "loading the renderer",
        )
    if readers is not None:  # nobody waits for them: whoever reads such a file may compile too
        threading.Thread(target=readers.wait, daemon=True).start()
    if failure:
        raise failure[0]
    _ready.set()
    with contextlib.suppress(OSError):
        _mark().write_text(str(_kept()))
    return time.perf_counter() - start


if __name__ == "__main__":
    if "--wait" in sys.argv:  # everything, for whoever comes after this process
        prepare(silent, behind=0)
    else:
        with contextlib.suppress(OSError):
            os.nice(BEHIND)
    compile_readers()
