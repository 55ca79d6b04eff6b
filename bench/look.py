"""The look that runs: from a change to its first pixels, how often it is shown, until it is clean.

The server warm, the scene in memory, 480 x 270: something is changed as a page would change it, and
the pictures are fetched as a page fetches them.  The bakery in full, a street of trees and panes,
and scanned statues.  A trial is timed with and without a look before it, one after the other.
"""

from __future__ import annotations

import json
import tempfile
import time
import urllib.parse
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np
import psutil
from sqlalchemy import select

from bench.idle import until_idle
from bench.server import Server
from bench.trim_scenes import statues, street
from mill_lane.core.formats.gltf import write_glb
from mill_lane.store.models import Render, Task

OPTIONS = {"changes": 60, "trials": 4}
SIZE = {"width": 480, "height": 270, "min_samples": 2}
WATCHED = 1.5  # seconds after a change
LONGEST = 120.0  # seconds until a whole view has to be clean
CLEAN = {"noise_percent": 5, "converged_fraction_percent": 95}


def run(changes: int = OPTIONS["changes"], trials: int = OPTIONS["trials"]) -> dict[str, Any]:
    """Change something so often in each scene, and time so many trials of each sort."""
    out: dict[str, Any] = {}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        server = Server(folder / "home", "full")
        server.start()
        try:
            server.until(lambda: server.tasks(Task.kind == "demo", Task.state == "done"), "", 900)
            jobs = {"bakery": 1}
            for made in (street, statues):
                path = folder / f"{made.__name__}.glb"
                write_glb(made(), path)
                jobs[made.__name__] = opened(server, path)
            until_idle(server)
            firsts: list[float] = []
            for scene, job in jobs.items():
                found = Looking(server, job)
                found.change(0)
                found.watch(60.0, until_samples=1.0)
                times, rates = [], []
                for n in range(changes):
                    found.change(n + 1)
                    first, shown = found.watch(WATCHED)
                    times.append(1e3 * first)
                    rates.append(shown / WATCHED)
                firsts += times
                found.change(0, **CLEAN)
                began = time.monotonic()
                found.watch(LONGEST, until_clean=True)
                out |= {
                    f"first_pixels_ms_p50_{scene}": float(np.percentile(times, 50)),
                    f"first_pixels_ms_p95_{scene}": float(np.percentile(times, 95)),
                    f"updates_per_second_{scene}": float(np.median(rates)),
                    f"seconds_to_clean_view_{scene}": time.monotonic() - began,
                    f"memory_bytes_{scene}": found.memory(),
                }
            out |= {
                "first_pixels_ms_p50": float(np.percentile(firsts, 50)),
                "first_pixels_ms_p95": float(np.percentile(firsts, 95)),
            }
            out["trial_with_look_ratio"] = beside(server, trials)
        finally:
            server.stop()
    return out


def opened(server: Server, path: Path) -> int:
    """The job of a scene that was sent."""
    query = urllib.parse.urlencode({"name": path.name})
    status, said = server.ask("POST", f"/api/scenes?{query}", path.read_bytes(), 600)
    if status != 200:
        raise RuntimeError(str(said))
    server.until(server.idle, "the scene", 900)
    return int(said["job"])


class Looking:
    """A page that looks."""

    def __init__(self, server: Server, job: int) -> None:
        self.server, self.job = server, job
        self.number, self.stamp, self.asked = "", "", 0.0

    def change(self, n: int, **more: Any) -> None:
        """Change something that begins the picture anew."""
        self.asked = time.monotonic()
        body = SIZE | {"bounces": 2 + n % 3, "seed": n + 1, "samples": 4096} | more
        status, said = self.server.ask("POST", f"/api/jobs/{self.job}/live", body)
        if status != 200:
            raise RuntimeError(str(said))
        self.number = said["number"]

    def watch(
        self, seconds: float, until_samples: float = 0.0, until_clean: bool = False
    ) -> tuple[float, int]:
        """Seconds until the first picture of the last change, and pictures in the time."""
        first, shown, end = float("inf"), 0, self.asked + seconds
        while time.monotonic() < end:
            address = f"{self.server.base}/jobs/{self.job}/live?after={self.stamp}"
            with urllib.request.urlopen(address, timeout=30) as answer:
                said, data = json.loads(answer.headers["Look"]), answer.read()
            self.stamp = said["stamp"]
            if said.get("number") != self.number or not data:
                continue
            first = min(first, time.monotonic() - self.asked)
            shown += 1
            enough = until_samples and said["samples"] >= until_samples
            if enough or (until_clean and said["phase"] in ("noise", "samples")):
                break
        return first, shown

    def memory(self) -> int:
        """Bytes of the largest process below the server; what is shared is counted in parts."""
        assert self.server.process is not None
        every = psutil.Process(self.server.process.pid).children(recursive=True)
        return max(p.memory_full_info().pss for p in every)


def beside(server: Server, trials: int) -> float:
    """Times of trials with a look before them over times without, by turns."""
    times: dict[bool, list[float]] = {True: [], False: []}
    looking = Looking(server, 1)
    for n in range(2 * trials):
        looked = n % 2 == 0
        if looked:
            looking.change(n)
            looking.watch(3.0)
        else:
            looking.change(n, paused=True)
            server.until(server.idle, "the look", 60)
            time.sleep(3.0)
        body = SIZE | {"samples": 16, "device": 1, "role": "draft", "seed": 7}
        status, said = server.ask("POST", "/api/jobs/1/trials", body)
        if status != 200:
            raise RuntimeError(str(said))
        number = server.tasks(Task.kind == "render")[-1].id
        server.until(lambda n=number: bool((t := server.task(n)) and t.over), "a trial", 300)
        with server.sessions() as db:
            row = db.scalars(select(Render).where(Render.task_id == number)).one()
            times[looked].append(float(row.measured["seconds"]))
    return float(np.median(times[True]) / np.median(times[False]))
