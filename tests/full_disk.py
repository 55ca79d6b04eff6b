"""A story on a disk of its own that fills up, told in a user's own namespace.

`unshare -rm python -m tests.full_disk FOLDER`; prints "all is well" at the end.
"""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from fastapi.testclient import TestClient

from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import write_exr
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import write_pixels
from mill_lane.core.formats.saving import save_scene
from mill_lane.jobs.bootstrap import bootstrap
from mill_lane.store.home import open_home
from mill_lane.store.models import Task
from mill_lane.store.transactions import write
from mill_lane.web.app import create_app
from mill_lane.web.shared.settings import Settings
from mill_lane.work import queue
from mill_lane.work.signs import Signs
from mill_lane.work.worker import Worker
from tests.scenes import small_demo
from tests.toys.kind import COUNT, Payload

SIZE = 24_000_000


def fill(folder: Path) -> Path:
    """Take all that is left of the disk."""
    filler = folder / "filler"
    with filler.open("wb", buffering=0) as f:
        for size in (1 << 20, 4096, 1):
            try:
                while True:
                    f.write(b"x" * size)
            except OSError:
                continue
    return filler


def until(ready: Callable[[], object]) -> None:
    """Wait for something."""
    end = time.monotonic() + 30
    while not ready():
        assert time.monotonic() < end, "it takes too long"
        time.sleep(0.05)


def files(disk: Path) -> None:
    """Pictures that find no room say so, and what was there stays."""
    pixels = np.random.default_rng(1).integers(0, 255, (600, 600, 3)).astype(np.uint8)
    light = np.random.default_rng(1).random((600, 600, 3), np.float32)
    filler = fill(disk)
    for path, make in (
        (disk / "a.png", lambda p: write_pixels(p, pixels)),
        (disk / "a.exr", lambda p: write_exr(p, {"beauty": light})),
    ):
        try:
            make(path)
        except OSError as e:
            no_space = "No space" in str(e)
        else:
            no_space = False
        if not no_space:
            raise AssertionError(f"{path.name} was written on a full disk")
        path.unlink(missing_ok=True)
    scene = open_scene(small_demo())
    for ending in (".glb", ".usdz", ".usda", ".zip"):
        try:
            save_scene(scene, disk / f"out{ending}")
        except (OSError, MillError):
            assert not (disk / f"out{ending}").exists() or ending == ".usda"
        else:
            raise AssertionError(f"a scene was written as {ending} on a full disk")
    filler.unlink()


def work(disk: Path) -> None:
    """A task ends while the disk is full: its result waits, and is kept as soon as it can be."""
    home = open_home(disk / "home")
    write(home.sessions, lambda db: bootstrap(db, None))
    for task in home.sessions().query(Task):
        write(home.sessions, lambda db, n=task.id: queue.cancel(db, db.get_one(Task, n)))
    number = write(home.sessions, lambda db: queue.put(db, COUNT, Payload(to=20, seconds=0.1)).id)
    signs = Signs()
    worker = Worker(home, signs)
    thread = threading.Thread(target=worker._insist, args=("looks for work", worker.one))
    thread.start()

    def state() -> str:
        with home.sessions() as db:
            return db.get_one(Task, number).state

    until(lambda: state() == "running")
    filler = fill(disk)
    client = TestClient(create_app(Settings(home)), base_url="http://127.0.0.1:8410")
    answer = client.post("/api/scenes?name=a.glb", content=b"x" * 2_000_000)
    assert answer.status_code == 422, answer.text
    assert "needs 2 MB" in answer.json()["error"], answer.text
    health = client.get("/healthz")
    assert health.status_code == 503, health.text
    assert "disk is full" in str(health.json()["troubles"])
    assert client.get("/", headers={"accept": "text/html"}).status_code == 200
    until(lambda: "disk is full" in signs.said.trouble)
    time.sleep(1.0)
    assert thread.is_alive()
    filler.unlink()
    thread.join(40)
    assert state() == "done", state()
    assert client.get("/healthz").status_code == 200
    if worker.child is not None:
        worker.child.kill()


def main(folder: Path) -> None:
    """Mount a small disk, and tell the story on it."""
    disk = folder / "disk"
    disk.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={SIZE}", "none", str(disk)], check=True)
    files(disk)
    work(disk)
    print("all is well")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
