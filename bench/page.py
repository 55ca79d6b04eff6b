"""How long the server takes for a page while a render runs, against /healthz in the same run.

The job is a long one: 300 trials, 20 versions of the scene (the small demo), 10 recipes.
"""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session, make_transient

from mill_lane.store.home import open_home
from mill_lane.store.models import RecipeRow, Render, SceneVersion, Task

STATIONS = ("scene", "machine", "fit", "trials", "trim", "finish")
TRIALS, VERSIONS, RECIPES, ROUNDS = 300, 20, 10, 30
SMALL = {"whole": "true", "samples": 2, "min_samples": 1, "width": 64, "height": 36}
LONG = {"whole": "true", "samples": 4096, "min_samples": 16, "width": 1920, "height": 1080}


def fetch(url: str, body: dict[str, Any] | None = None) -> tuple[float, bytes]:
    """What an address answers, and the seconds it took."""
    data = json.dumps(body).encode() if body is not None else None
    request = urllib.request.Request(url, data, {"Content-Type": "application/json"})
    start = time.perf_counter()
    with urllib.request.urlopen(request, timeout=10) as answer:
        text = answer.read()
    return time.perf_counter() - start, text


def wait(condition: Callable[[], object], what: str, seconds: float = 300) -> None:
    """Wait until something holds."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        try:
            if condition():
                return
        except (urllib.error.URLError, OSError):
            pass
        time.sleep(0.3)
    raise RuntimeError(f"waited in vain for {what}")


def copied(db: Session, row: Any, **change: object) -> None:
    """Add a copy of a row with something changed."""
    make_transient(row)
    row.id = None
    for name, value in change.items():
        setattr(row, name, value)
    db.add(row)
    db.flush()


def lengthen(home: Path) -> None:
    """Make the job a long one: copies of its trial, each of another setting, and of its version."""
    sessions = open_home(home).sessions
    for number in range(2, TRIALS + 1):
        with sessions() as db:
            trial = db.scalars(select(Render).where(Render.number == 1)).one()
            recipe = trial.recipe | {"samples": 2 + number % 60, "bounces": number % 7}
            measured = trial.measured | {"seconds": 1.0 + number, "noise": 1.0 / number}
            copied(db, trial, number=number, recipe=recipe, measured=measured)
            db.commit()
    for number in range(2, VERSIONS + 1):
        with sessions() as db:
            version = db.scalars(select(SceneVersion).where(SceneVersion.number == 1)).one()
            assert version.analysis
            copied(db, version, number=number)
            db.commit()
    for number in range(3, RECIPES + 1):  # beside draft and final
        with sessions() as db:
            recipe = db.scalars(select(RecipeRow).where(RecipeRow.chosen == "draft")).one()
            copied(db, recipe, name=f"kept {number}", chosen=None)
            db.commit()


def run() -> dict[str, Any]:
    """Measure; `p95_ms` is of all pages together, at the server."""
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    with tempfile.TemporaryDirectory() as name:
        home = Path(name) / "home"
        command = [sys.executable, "-m", "mill_lane.cli", "serve", "--demo", "small"]
        command += ["--home", str(home), "--port", str(port)]
        server = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        try:
            times = measure(f"http://127.0.0.1:{port}", home)
        finally:
            server.terminate()
            server.wait(20)
    pages = [t for name, values in times.items() if name != "healthz" for t in values]
    out: dict[str, Any] = {"p95_ms": float(1000 * np.percentile(pages, 95))}
    reference = float(np.median(times["healthz"]))
    for name, values in times.items():
        out[f"{name}: median, ms"] = 1000 * float(np.median(values))
        out[f"{name}: p95, ms"] = 1000 * float(np.percentile(values, 95))
        out[f"{name}: median, of healthz"] = float(np.median(values)) / reference
    return out


def measure(base: str, home: Path) -> dict[str, list[float]]:
    """Seconds of every page, again and again, while a render of the whole view runs."""

    def state(number: int) -> str:
        with sessions() as db:
            render = db.scalars(select(Render).where(Render.number == number)).one()
            return db.get_one(Task, render.task_id).state

    wait(lambda: b"triangles" in fetch(f"{base}/jobs/1/scene")[1], "the demo")
    sessions = open_home(home).sessions
    fetch(f"{base}/api/jobs/1/trials", SMALL)
    wait(lambda: state(1) == "done", "the trial")
    lengthen(home)
    fetch(f"{base}/api/jobs/1/trials", LONG)
    wait(lambda: state(TRIALS + 1) == "running", "the render")
    time.sleep(3)
    times: dict[str, list[float]] = {}
    pages = {s: f"{base}/jobs/1/{s}" for s in STATIONS}
    addresses = {"healthz": f"{base}/healthz", "jobs": f"{base}/", **pages}
    for _ in range(ROUNDS):
        for what, address in addresses.items():
            times.setdefault(what, []).append(fetch(address)[0])
    assert state(TRIALS + 1) == "running"
    return times
