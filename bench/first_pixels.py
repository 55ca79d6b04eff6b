"""From asking for a trial to its first pixels, whatever is being done behind the page.

The bakery in full, the server warm: each kind of background work is begun, a trial is asked for a
while later, and the time is taken until its first picture can be shown.
"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from bench.idle import until_idle
from bench.server import Server
from mill_lane.store.bell import FILE, ring
from mill_lane.store.models import SceneVersion, Task

OPTIONS = {"rounds": 3}
TRIAL = {"width": 960, "height": 540, "samples": 4096, "whole": True}
BEHIND = ("nothing", "weigh", "propose", "first_look", "visible_cost")
AFTER = (0.5, 2.0, 6.0)  # seconds after which the trial is asked for
PAST = 40.0  # seconds that a background task is waited for


def run(rounds: int = OPTIONS["rounds"]) -> dict[str, Any]:
    """Ask for so many trials in each state."""
    with tempfile.TemporaryDirectory() as name:
        server = Server(Path(name) / "home", "full")
        server.start()
        try:
            server.until(lambda: server.tasks(Task.kind == "demo", Task.state == "done"), "", 900)
            first = asked(server)
            until_idle(server)
            server.ask("PUT", "/api/jobs/1/device", {"device": 1})
            asked(server)
            found: dict[str, list[float]] = {kind: [] for kind in BEHIND}
            for k in range(rounds):
                for kind in BEHIND:
                    if begun(server, kind):
                        time.sleep(AFTER[k % len(AFTER)])
                    found[kind].append(asked(server))
                    server.until(server.idle, "the background work", 900)
        finally:
            server.stop()
    every = [x for times in found.values() for x in times]
    out = {f"first_s_{kind}_max": max(times) for kind, times in found.items()}
    return out | {
        "trials": len(every),
        "first_s_p50": float(np.percentile(every, 50)),
        "first_s_p95": float(np.percentile(every, 95)),
        "just_opened_s": first,
    }


def begun(server: Server, kind: str) -> bool:
    """Have a kind of background work run once more; whether it does."""
    if kind == "nothing":
        return False
    with server.sessions() as db:
        version = db.scalars(select(SceneVersion.id)).first()
        before = db.scalars(select(Task).where(Task.kind == kind).order_by(Task.id.desc())).first()
        payload = before.payload if before is not None else {"version": version}
        if kind == "visible_cost" and before is None:
            payload = {"version": version, "key": "bench", "choices": [CHOICE]}
        task = Task(kind=kind, job_id=1, payload=payload)
        db.add(task)
        db.commit()
        number = task.id
    ring(server.home / FILE)
    server.until(lambda: running_or_over(server, number), kind, PAST)
    found = server.task(number)
    return found is not None and found.state == "running"


CHOICE = {
    "trim": "texture_size",
    "target": {"kind": "image", "index": 0, "name": "x"},
    "parameters": {"limit": 256},
}


def running_or_over(server: Server, number: int) -> bool:
    """Whether a task has begun."""
    task = server.task(number)
    return task is not None and task.state != "queued"


def asked(server: Server) -> float:
    """Seconds from asking for a trial to its first picture; it is stopped then."""
    server.ask("PUT", "/api/jobs/1/device", {"device": 1})
    began = time.monotonic()
    status, said = server.ask("POST", "/api/jobs/1/trials", TRIAL)
    if status != 200:
        raise RuntimeError(str(said))
    number = server.tasks(Task.kind == "render")[-1].id

    def shown() -> bool:
        task = server.task(number)
        return task is not None and (task.live.get("preview", 0) >= 1 or task.over)

    server.until(shown, "the first pixels", 300)
    took = time.monotonic() - began
    server.ask("POST", f"/api/tasks/{number}/cancel")
    server.until(lambda: bool((t := server.task(number)) and t.over), "the end of it", 60)
    return took
