"""Processes killed in the middle of everything: what is lost, damaged, or does not come back.

Each round begins a deed (a trial, a final frame, an upload, a trim, weighing), kills the child, the
worker, the server or all of them after a while, starts the server again where it is gone, and waits
until the deed is done.  Pictures are compared with those of the same recipe that nobody disturbed.
"""

from __future__ import annotations

import sqlite3
import sys
import tempfile
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from bench.server import Server
from mill_lane.demo.make import make_demo
from mill_lane.store.files import file_hash
from mill_lane.store.models import Render, SceneVersion, StoredFile, Task

OPTIONS = {"rounds": 200, "seed": 1}
TARGETS = ("child", "worker", "server", "group")
DEEDS = ("trial", "run", "upload", "trim", "weigh")
RECIPE = {"width": 160, "height": 90, "samples": 20, "min_samples": 20, "seed": 5, "bounces": 2}
LONG = RECIPE | {"samples": 110, "min_samples": 110}
BACK = 60.0  # seconds in which the worker has to be back
PATIENCE = 240.0  # seconds in which a deed has to be done afterwards


@dataclass
class Tally:
    """What became of the rounds."""

    lost: int = 0
    different: int = 0
    back: int = 0
    rounds: int = 0
    hit: int = 0  # rounds in which the deed was going on when it was killed
    seconds_lost: list[float] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def run(
    rounds: int = OPTIONS["rounds"],
    seed: int = OPTIONS["seed"],
    targets: str = ",".join(TARGETS),
    deeds: str = ",".join(DEEDS),
) -> dict[str, Any]:
    """Kill so many times, each target in the middle of each deed in turn."""
    with tempfile.TemporaryDirectory() as name:
        server = Server(Path(name) / "home")
        server.start()
        try:
            return campaign(server, rounds, seed, targets.split(","), deeds.split(","))
        finally:
            server.stop()


def campaign(
    server: Server, rounds: int, seed: int, targets: Sequence[str], deeds: Sequence[str]
) -> dict[str, Any]:
    """The same on a server that runs."""
    start = time.monotonic()
    rng = np.random.default_rng(seed)
    tally = Tally()
    pairs = [(d, t) for t in targets for d in deeds]
    if rounds < len(pairs):  # a little of each
        pairs = list(zip(deeds, targets, strict=False))
    scene = server.home.with_name("upload.glb")
    make_demo(scene, "small", 1)
    _prepare(server)
    references = {
        text: _exr_of(server, _trial(server, recipe))
        for text, recipe in (("short", RECIPE), ("long", LONG))
        if text == "short" or "trial" in deeds
    }
    for number in range(rounds):
        deed, target = pairs[number % len(pairs)]
        _round(server, deed, target, scene, rng, references, tally)
    server.until(server.idle, "the end of all tasks", PATIENCE)
    time.sleep(1)
    damaged = _damaged(server, tally)
    for text in tally.notes:
        print(text, file=sys.stderr)
    return {
        "rounds": tally.rounds,
        "lost": tally.lost,
        "damaged": damaged,
        "different_bits": tally.different,
        "seconds_lost_max": max(tally.seconds_lost, default=0.0),
        "worker_back": tally.back,
        "rounds_in_the_middle": tally.hit,
        "seconds": time.monotonic() - start,
    }


def _prepare(server: Server) -> None:
    """Wait for the demo and the renderer; make the final recipe a small one."""

    def ready() -> bool:
        return bool(server.tasks(Task.kind == "weigh")) and server.idle()

    server.until(ready, "the demo", 600)
    status, said = server.ask("PUT", "/api/jobs/1/recipes/final", RECIPE)
    assert status == 200, said


def _trial(server: Server, recipe: dict[str, Any]) -> int:
    """Queue a trial of the whole view; its task."""
    before = {t.id for t in server.tasks(Task.kind == "render")}
    status, said = server.ask("POST", "/api/jobs/1/trials", {**recipe, "whole": True})
    assert status == 200, said
    return next(t.id for t in server.tasks(Task.kind == "render") if t.id not in before)


def _exr_of(server: Server, task: int) -> str | None:
    """The content of the picture of a render, once it is done."""

    def over() -> bool:
        found = server.task(task)
        return found is not None and found.over

    server.until(over, f"task {task}", PATIENCE)
    with server.sessions() as db:
        row = db.scalars(select(Render).where(Render.task_id == task)).first()
        return row.exr if row is not None else None


def _begin(
    server: Server, deed: str, scene: Path, rng: np.random.Generator
) -> tuple[int | None, str]:
    """Begin a deed; the task that was accepted, and which reference its picture has."""
    kind = {"trial": "render", "run": "render", "upload": "open"}.get(deed, deed)
    before = {t.id for t in server.tasks(Task.kind == kind)}

    def newest() -> int | None:
        return next((t.id for t in server.tasks(Task.kind == kind) if t.id not in before), None)

    if deed in ("trial", "run"):  # of what the references are of, whatever was trimmed meanwhile
        server.ask("PUT", "/api/jobs/1/version", {"version": 1})
    if deed == "trial":
        length = "long" if rng.random() < 0.6 else "short"
        return _trial(server, LONG if length == "long" else RECIPE), length
    if deed == "run":
        server.ask("POST", "/api/jobs/1/runs", {"frame": 1})
        return newest(), ""
    if deed in ("upload", "weigh"):
        before = {t.id for t in server.tasks(Task.kind == kind)}
        status, said = server.ask("POST", "/api/scenes?name=shop.glb", scene.read_bytes())
        assert status == 200, said
        task = int(said["task"])
        if deed == "upload":
            return task, ""
        server.until(lambda: (t := server.task(task)) and t.over, "the upload", PATIENCE)
        return newest(), ""
    # By what the shot shows, which the small demo has something of, too.
    server.ask("PUT", "/api/jobs/1/version", {"version": 1})
    wanted = {"all": True, "stage": True, "rule": "footprint"}
    server.ask("POST", "/api/jobs/1/trim-list", wanted)
    status, _ = server.ask("POST", "/api/jobs/1/trim")
    assert status == 200, "nothing was trimmed"
    return newest(), ""


def _round(
    server: Server,
    deed: str,
    target: str,
    scene: Path,
    rng: np.random.Generator,
    references: dict[str, str | None],
    tally: Tally,
) -> None:
    tally.rounds += 1
    killer: threading.Thread | None = None
    if deed == "upload" and rng.random() < 0.5:
        # In the middle of the upload itself: what was not accepted is nobody's.
        killer = threading.Timer(float(rng.random()) * 0.15, lambda: server.kill(target))
        killer.start()
        status, said = server.ask("POST", "/api/scenes?name=shop.glb", scene.read_bytes())
        task: int | None = int(said["task"]) if status == 200 else None
        which = ""
        killer.join()
    else:
        task, which = _begin(server, deed, scene, rng)
        server.until(lambda: _begun(server, task), f"the start of {deed}", PATIENCE)
        time.sleep(float(rng.random()) * (14.0 if which == "long" else 2.5))
        found = server.task(task) if task else None
        before = (found.live or {}).get("seconds") if found else None
        tally.hit += bool(found and found.state == "running")
        killed = server.kill(target)
        if not killed:
            tally.notes.append(f"round {tally.rounds}: there was no {target}")
        if before and found and found.state == "running" and task:
            tally.seconds_lost.append(_lost(server, target, task, float(before)))
    if server.process is None or server.process.poll() is not None:
        server.start()
    _see_back(server, tally, f"round {tally.rounds}: {deed}, {target}")
    if task is not None:
        _see_done(server, task, which, references, tally, f"{deed}, {target}")
    # Every version is weighed behind the page: for the sake of time only where that is the deed.
    for other in server.tasks(Task.kind == "weigh", Task.state.in_(("queued", "running"))):
        server.ask("POST", f"/api/tasks/{other.id}/cancel")


def _begun(server: Server, task: int | None) -> bool:
    found = server.task(task) if task is not None else None
    return found is None or found.state != "queued"


def _lost(server: Server, target: str, task: int, before: float) -> float:
    """Seconds of rendering that a kill took: those before it, less those it goes on from."""
    if target in ("server", "group"):
        server.start()
    end = time.monotonic() + PATIENCE
    while time.monotonic() < end:
        found = server.task(task)
        if found is None or found.over:
            return 0.0  # it was done in the meantime, or the kill came too late
        live = found.live or {}
        again = found.attempts > 1 or found.text.startswith("interrupted")
        if found.state == "running" and again and live.get("phase") == "rendering":
            now = float(live.get("seconds") or 0.0)
            return max(0.0, before - now)
        time.sleep(0.05)
    return PATIENCE


def _see_back(server: Server, tally: Tally, what: str) -> None:
    end = time.monotonic() + BACK
    while time.monotonic() < end:
        status, said = server.health()
        if status == 200 and (said.get("worker") or {}).get("alive"):
            tally.back += 1
            return
        time.sleep(0.1)
    tally.notes.append(f"{what}: the worker did not come back: {server.health()}")


def _see_done(
    server: Server,
    task: int,
    which: str,
    references: dict[str, str | None],
    tally: Tally,
    what: str,
) -> None:
    try:
        server.until(lambda: (t := server.task(task)) is not None and t.over, what, PATIENCE)
    except RuntimeError:
        tally.lost += 1
        tally.notes.append(f"{what}: task {task} never ended")
        return
    found = server.task(task)
    if found is None or found.state != "done":
        tally.lost += 1
        tally.notes.append(f"{what}: {found.state if found else 'gone'} {found and found.error}")
    elif which and _exr_of(server, task) != references[which]:
        tally.different += 1
        tally.notes.append(f"{what}: other bits")


def _damaged(server: Server, tally: Tally) -> int:
    """What is not whole at the end: the database, files it names, versions, remains."""
    wrong: list[str] = []
    with sqlite3.connect(server.home / "mill-lane.sqlite") as db:
        said = db.execute("PRAGMA integrity_check").fetchone()[0]
        if said != "ok":
            wrong.append(said)
    with server.sessions() as session:
        listed = set(session.scalars(select(StoredFile.hash)))
        for digest in listed:
            path = server.home / "files" / digest[:2] / digest
            if not path.exists() or file_hash(path) != digest:
                wrong.append(f"file {digest} is missing or another")
        for version in session.scalars(select(SceneVersion)):
            if version.file_hash not in listed:
                wrong.append(f"version {version.id} has no file")
        done = select(Task.id).where(Task.kind == "render", Task.state == "done")
        for render in session.scalars(select(Render).where(Render.task_id.in_(done))):
            if render.exr not in listed or not render.measured:
                wrong.append(f"render {render.id} has no picture")
    stored = {p.name for p in (server.home / "files").glob("*/*")}
    wrong += [f"file {name} is named by nothing" for name in stored - listed]
    wrong += [f"{p.name} was left in scratch" for p in (server.home / "scratch").iterdir()]
    tally.notes += wrong
    return len(wrong)
