"""A run of frames: what it takes beside rendering, how it is predicted, what kills do to it.

A run over the small demo is rendered undisturbed; then the same one with child, worker and server
killed at random moments, each frame compared with the undisturbed one bit for bit.
"""

from __future__ import annotations

import itertools
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from bench.kill import PATIENCE, TARGETS, _lost, _prepare
from bench.server import Server
from mill_lane.core.plan.night import time_left
from mill_lane.store.files import file_hash
from mill_lane.store.models import Render, RenderGroup, Task

OPTIONS = {"frames": 96, "rounds": 60, "seed": 1}
RECIPE = {"width": 240, "height": 135, "samples": 16, "min_samples": 16, "seed": 5, "bounces": 2}
SHEET = {"order": "straight", "exr": "half", "png": True, "there": "overwrite", "read": True}
SHEET |= {"rungs": []}  # what is killed often would be taken for too large, and be given less


def run(
    frames: int = OPTIONS["frames"], rounds: int = OPTIONS["rounds"], seed: int = OPTIONS["seed"]
) -> dict[str, Any]:
    """Render so many frames undisturbed, then again with so many kills."""
    with tempfile.TemporaryDirectory() as name:
        server = Server(Path(name) / "home")
        server.start()
        try:
            _prepare(server)
            for path, body in (("device", {"device": 1}), ("recipes/final", RECIPE)):
                status, said = server.ask("PUT", f"/api/jobs/1/{path}", body)
                assert status == 200, said
            return measured(server, frames, rounds, seed)
        finally:
            server.stop()


def measured(server: Server, frames: int, rounds: int, seed: int) -> dict[str, Any]:
    """The same on a server that runs."""
    rehearsal = _night(server, "rehearsals", frames, "first/s.####")
    told = _rehearsed(server, rehearsal)
    undisturbed = _night(server, "nights", frames, "first/s.####")
    rows = _rows(server, undisturbed)
    whole = [row.measured["whole_seconds"] for row in rows]
    ten = time_left(whole[:10], frames - 10)
    rest = sum(whole[10:])
    first = [(t.started, t.finished) for t in _tasks(server, rows)]
    gaps = [(b[0] - a[1]).total_seconds() for a, b in itertools.pairwise(first)]
    beside = [
        (ended - began).total_seconds() - row.measured["seconds"]
        for row, (began, ended) in zip(rows, first, strict=True)
    ]
    peaks = [row.measured["peak_memory_bytes"] for row in rows]
    out = {
        "overhead_seconds": float(np.median(beside[1:])),
        "next_frame_seconds": max(gaps),
        # The rehearsal was the first to need the scene.
        "loading_seconds": _rows(server, rehearsal)[0].measured["setup_seconds"],
        "loading_seconds_later": max(r.measured["setup_seconds"] for r in rows[1:]),
        "range_error_rehearsal": abs(told * frames / sum(r.measured["seconds"] for r in rows) - 1),
        "range_error_10": abs(ten.seconds / rest - 1) if ten is not None and rest else 0.0,
        "peak_error": abs(rows[0].predicted["memory_bytes"] / max(peaks) - 1),
    }
    return out | killed(server, frames, rounds, seed)


def killed(server: Server, frames: int, rounds: int, seed: int) -> dict[str, Any]:
    """Render the frames again with kills, and compare."""
    rng = np.random.default_rng(seed)
    group = _begin(server, "nights", frames, "again/s.####")
    lost: list[float] = []
    done = 0
    while done < rounds:
        time.sleep(float(rng.random()) * 4.0)
        task = _open(server, group)
        if task is None:
            if not _left(server, group):
                # More kills than frames: the same frames once more.
                _see(server, group)
                group = _begin(server, "nights", frames, "again/s.####")
            continue
        target = TARGETS[done % len(TARGETS)]
        before = float((task.live or {}).get("seconds") or 0.0)
        if server.kill(target):
            done += 1
            print(f"kill {done}: {target}", file=sys.stderr)
        if before and task.state == "running":
            lost.append(_lost(server, target, task.id, before))
        if server.process is None or server.process.poll() is not None:
            server.start()
    _see(server, group)
    names = [f"s.{n:04d}.exr" for n in range(1, frames + 1)]
    folders = [server.home / "frames" / name for name in ("first", "again")]
    missing = sum(not (folders[1] / name).exists() for name in names)
    different = sum(
        file_hash(folders[0] / name) != file_hash(folders[1] / name)
        for name in names
        if (folders[1] / name).exists()
    )
    return {
        "rounds": done,
        "frames_lost": missing,
        "different_bits": different,
        "seconds_lost_max": max(lost, default=0.0),
    }


def _begin(server: Server, what: str, frames: int, name: str) -> int:
    body = {"frames": f"1-{frames}", "name": name} | SHEET
    status, said = server.ask("POST", f"/api/jobs/1/{what}", body)
    assert status == 200, said
    return int(said["run"])


def _night(server: Server, what: str, frames: int, name: str) -> int:
    group = _begin(server, what, frames, name)
    _see(server, group)
    return group


def _see(server: Server, group: int) -> None:
    """Wait until a run is done."""

    def done() -> bool:
        with server.sessions() as db:
            return db.get_one(RenderGroup, group).settings["state"] == "done"

    server.until(done, "the run", 30 * PATIENCE)


def _left(server: Server, group: int) -> bool:
    with server.sessions() as db:
        return bool(db.get_one(RenderGroup, group).settings["state"] != "done")


def _open(server: Server, group: int) -> Task | None:
    with server.sessions() as db:
        query = (
            select(Task)
            .join(Render, Render.task_id == Task.id)
            .where(Render.group_id == group, Task.state.in_(("queued", "running")))
        )
        found: Task | None = db.scalars(query.limit(1)).first()
        return found


def _rows(server: Server, group: int) -> list[Render]:
    with server.sessions() as db:
        query = select(Render).where(Render.group_id == group, Render.picture.is_not(None))
        return list(db.scalars(query.order_by(Render.id)))


def _tasks(server: Server, rows: list[Render]) -> list[Any]:
    with server.sessions() as db:
        found = {t.id: t for t in db.scalars(select(Task))}
    return [found[row.task_id] for row in rows]


def _rehearsed(server: Server, group: int) -> float:
    """Seconds of a final frame, by the rehearsed ones."""
    rows = _rows(server, group)
    small = rows[0].recipe
    pixels = RECIPE["width"] * RECIPE["height"] / (small["width"] * small["height"])
    times = pixels * RECIPE["samples"] / small["samples"]
    return float(np.mean([row.measured["seconds"] for row in rows])) * times
