"""From a fresh home to the first picture, with nothing compiled and then with everything kept.

"Cold" begins with no compiled code, no demo and no home; "warm" starts the same home again after
the process that held the scene was ended.  `compile_seconds` is compiling alone, in a process of
its own.  Then seconds by the clock, from when the server was started: the first page, the scene
listed, the renderer compiled beside that, the bakery seen; and from when a render of all of the
view was asked for, its first pixels.  `reload_seconds` is what loading the bakery
takes in a new process, with what the home keeps of it, and beside it without.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from bench.server import Server
from mill_lane.store.models import Task

CPU = 1  # of the devices that every home begins with
RECIPE = {
    "recipe": {"width": 480, "height": 270, "samples": 16, "min_samples": 1},
    "whole": True,
    "device": CPU,
}
PREPARE = """
import time, json
begun = time.perf_counter()
from mill_lane.work.warm import prepare
prepare(lambda share, text: None)
print(json.dumps({"seconds": time.perf_counter() - begun}))
"""
RELOAD = """
import sys, time, json
from pathlib import Path
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.render.load import load
from mill_lane.core.render.texture_cache import TextureCache
begun = time.perf_counter()
loaded = load(open_scene(Path(sys.argv[1])), 2, cache=TextureCache(Path(sys.argv[2])))
print(json.dumps({"seconds": time.perf_counter() - begun, **loaded.held}))
"""


def run() -> dict[str, Any]:
    figures: dict[str, Any] = {}
    with tempfile.TemporaryDirectory(prefix="mill-lane-bench-") as name:
        folder = Path(name)
        os.environ["MILL_LANE_CACHE"] = str(folder / "compiled")
        home = folder / "home"
        for state in ("cold", "warm"):
            alone = _said(PREPARE)["seconds"]
            figures["compile_seconds" if state == "cold" else "compile_seconds (warm)"] = alone
            if state == "cold":
                shutil.rmtree(os.environ["MILL_LANE_CACHE"])
            for key, seconds in _start(home).items():
                figures[key if state == "cold" else f"{key} (warm)"] = seconds
        scene = max((home / "cache").glob("*.glb"), key=lambda p: p.stat().st_size)
        kept = [_reload(scene, home / "cache" / "textures") for _ in range(3)]
        figures["reload_seconds"] = sorted(k["seconds"] for k in kept)[1]
        figures["mapped_share"] = kept[0]["mapped"] / (
            kept[0]["textures"] + kept[0]["acceleration"]
        )
        figures["reload_seconds (nothing kept)"] = _reload(scene, folder / "none")["seconds"]
    return figures


def _start(home: Path) -> dict[str, float]:
    """Start a server on a home, look at the scene, render it; the seconds of each."""
    begun = time.perf_counter()
    server = Server(home, "full")
    server.start()
    out: dict[str, float] = {}

    def mark(key: str, ready: Callable[[], object], since: float = begun) -> None:
        server.until(ready, key, 900)
        out[key] = time.perf_counter() - since

    def there(kind: str) -> list[Task]:
        return server.tasks(Task.kind == kind)

    try:
        mark("page_seconds", lambda: server.ask("GET", "/")[0] == 200)
        mark("listed_seconds", lambda: server.ask("GET", "/jobs/1/scene.csv")[0] == 200)
        mark(
            "compiled beside the demo",
            lambda: any(t.state == "done" for t in server.tasks(_PREPARE)),
        )
        mark("first_look_seconds", lambda: any(_seen(t) for t in there("first_look")))
        server.until(server.idle, "the end of it", 900)
        before = {t.id for t in server.tasks(Task.kind == "render")}
        now = time.perf_counter()
        status, said = server.ask("POST", "/api/jobs/1/trials", RECIPE)
        if status != 200:
            raise RuntimeError(f"the render was refused: {said}")

        def pixels() -> bool:
            mine = [t for t in server.tasks(Task.kind == "render") if t.id not in before]
            return any(t.live.get("samples") or t.over for t in mine)

        mark("first_pixels_seconds", pixels, now)
    finally:
        server.stop()
    return out


_PREPARE = Task.kind == "prepare"


def _seen(task: Task) -> bool:
    return bool(task.live.get("shown") or task.result.get("picture"))


def _reload(scene: Path, kept: Path) -> dict[str, float]:
    """What loading takes in a process of its own, and what it holds."""
    return _said(RELOAD, str(scene), str(kept))


def _said(program: str, *words: str) -> dict[str, float]:
    """What a program says at its end, run in a process of its own."""
    command = [sys.executable, "-c", program, *words]
    done = subprocess.run(command, check=True, capture_output=True, text=True)
    found: dict[str, float] = json.loads(done.stdout.splitlines()[-1])
    return found
