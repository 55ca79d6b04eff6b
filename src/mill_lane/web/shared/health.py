"""How the installation is: for whoever watches over it at /healthz, and for the line that pages
show when work is not being done.
"""

from __future__ import annotations

import shutil
import sqlite3
import time
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse
from sqlalchemy import func, select
from sqlalchemy.exc import SQLAlchemyError

from mill_lane import __version__
from mill_lane.core.disk import amount
from mill_lane.store.database import WAIT
from mill_lane.store.models import Task, now
from mill_lane.web.shared.context import settings_of
from mill_lane.web.shared.settings import Settings
from mill_lane.work.supervisor import Watch

router = APIRouter()
LEAST_FREE = 1_000_000  # bytes; below, hardly anything can be written
PATIENCE = WAIT / 2  # seconds that the database may keep a writer waiting
UNTOUCHED = 30.0  # seconds that a worker may be idle while a task waits


def troubles(settings: Settings) -> list[str]:
    """What keeps work from being done, as sentences; quick enough for every page."""
    out = []
    if settings.watch is not None:
        said = _of_worker(settings.watch())
        if said:
            out.append(said)
    try:
        free = shutil.disk_usage(settings.home.folder).free
    except OSError as e:
        return [*out, f"The disk cannot be looked at: {e.strerror}."]
    if free < LEAST_FREE and not any("disk is full" in x for x in out):
        out.append(f"The disk is full: {amount(free)} are free.")
    return out


def _of_worker(watch: Watch) -> str:
    if not watch.alive:
        return "The process that does the work has ended; it is being started again."
    if watch.stuck:
        return "The process that does the work does not answer."
    return watch.sign.trouble


@router.get("/healthz")
def health(request: Request) -> JSONResponse:
    """Say how worker, child, queue, disk and database are; 503 when work is not being done."""
    settings = settings_of(request)
    found = troubles(settings)
    parts: dict[str, Any] = {"worker": None, "child": None}
    if settings.watch is not None:
        watch = settings.watch()
        parts["worker"] = {
            "alive": watch.alive,
            "pid": watch.pid,
            "starts": watch.starts,
            "silent_seconds": round(watch.silent, 2),
            "doing": watch.sign.doing,
        }
        parts["child"] = {"alive": watch.sign.child is not None, "pid": watch.sign.child}
    try:
        parts["queue"] = _queue(settings)
    except SQLAlchemyError as e:
        parts["queue"] = None
        found.append(f"The database cannot be read: {getattr(e, 'orig', e)}.")
    queue = parts["queue"]
    # What waits for a task of another lane is begun after it.
    waits = queue and queue["waiting"] and not queue["running"]
    if waits and settings.watch is not None:
        watch = settings.watch()
        if watch.sign.doing == "idle" and watch.doing_seconds > UNTOUCHED:
            found.append(f"{queue['waiting']} tasks wait, and none is begun.")
    parts["disk"] = _disk(settings)
    parts["database"] = _database(settings)
    if not parts["database"]["writable"]:
        found.append(f"The database cannot be written: {parts['database']['error']}.")
    status = {"status": "failing" if found else "ok", "version": __version__, "troubles": found}
    return JSONResponse(status | parts, 503 if found else 200)


def _queue(settings: Settings) -> dict[str, Any]:
    with settings.home.sessions() as db:
        rows = db.execute(
            select(Task.state, func.count(Task.id))
            .where(Task.state.in_(("queued", "running", "paused")))
            .group_by(Task.state)
        )
        counted = {row[0]: row[1] for row in rows}
        oldest = db.scalar(select(func.min(Task.created)).where(Task.state == "queued"))
    waited = (now() - oldest).total_seconds() if oldest else 0.0
    return {
        "waiting": counted.get("queued", 0),
        "running": counted.get("running", 0),
        "paused": counted.get("paused", 0),
        # A clock that was put back makes no time negative.
        "oldest_seconds": max(0.0, round(waited, 1)),
    }


def _disk(settings: Settings) -> dict[str, Any]:
    try:
        disk = shutil.disk_usage(settings.home.folder)
    except OSError:
        return {"total_bytes": None, "free_bytes": None}
    return {"total_bytes": disk.total, "free_bytes": disk.free}


def _database(settings: Settings) -> dict[str, Any]:
    """Take the write lock and let go of it."""
    start, error = time.perf_counter(), ""
    try:
        connection = sqlite3.connect(settings.home.database, timeout=PATIENCE)
        try:
            connection.execute("BEGIN IMMEDIATE")
            connection.rollback()
        finally:
            connection.close()
    except sqlite3.Error as e:
        error = str(e)
    took = (time.perf_counter() - start) * 1000
    return {"writable": not error, "error": error, "lock_ms": round(took, 2)}
