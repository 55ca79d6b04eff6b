"""What a server costs while nothing is to be done, and how soon it begins when something is.

Processor time is that of the server, its worker and their children together, read from the system;
writes are counted by SQLite itself (`PRAGMA data_version`) and by the growth of its log.
"""

from __future__ import annotations

import sqlite3
import tempfile
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import psutil

from bench.server import Server
from mill_lane.store.models import Task

OPTIONS = {"seconds": 60, "tasks": 40, "pages": 0}
TRIAL = {"width": 16, "height": 9, "samples": 1, "min_samples": 1, "bounces": 1, "whole": True}
QUIET = 5.0  # seconds without a task until the server counts as idle
REST = 0.4  # seconds between two tasks


def run(
    seconds: int = OPTIONS["seconds"],
    tasks: int = OPTIONS["tasks"],
    pages: int = OPTIONS["pages"],
) -> dict[str, Any]:
    """Watch an idle server for so long, with so many pages that listen; then give it tasks."""
    with tempfile.TemporaryDirectory() as name:
        server = Server(Path(name) / "home")
        server.start()
        try:
            until_idle(server)
            with httpx.Client(base_url=server.base, timeout=None) as client:
                streams = [client.stream("GET", "/events") for _ in range(pages)]
                for stream in streams:
                    stream.__enter__()
                found = watched(server, seconds)
                for stream in streams:
                    stream.__exit__(None, None, None)
            return found | begun(server, tasks)
        finally:
            server.stop()


def until_idle(server: Server) -> None:
    """Wait until the demo is built, weighed and looked at, and nothing has waited for a while."""
    quiet = 0.0

    def idle() -> bool:
        nonlocal quiet
        if not server.idle() or not server.tasks(Task.kind == "propose"):
            quiet = time.monotonic()
        return time.monotonic() - quiet > QUIET

    server.until(idle, "until nothing is to be done", 900)


def spent(server: Server) -> dict[int, float]:
    """Processor seconds of the server and everything below it, by process."""
    assert server.process is not None
    own = psutil.Process(server.process.pid)
    times = {p.pid: p.cpu_times() for p in (own, *own.children(recursive=True))}
    return {pid: t.user + t.system for pid, t in times.items()}


def watched(server: Server, seconds: int) -> dict[str, Any]:
    """Processor time and writes within so many seconds."""
    path = next(server.home.glob("*.sqlite"))
    log = path.with_name(path.name + "-wal")
    with closing(sqlite3.connect(path, isolation_level=None)) as db:

        def state() -> tuple[int, int]:
            version = db.execute("PRAGMA data_version").fetchone()[0]
            return int(version), log.stat().st_mtime_ns if log.exists() else 0

        writes, last = 0, state()
        before, began = spent(server), time.monotonic()
        while time.monotonic() - began < seconds:
            time.sleep(0.25)
            now = state()
            writes += now != last
            last = now
        took = time.monotonic() - began
        after = spent(server)
    used = sum(after[pid] - before.get(pid, 0.0) for pid in after)
    return {
        "seconds": took,
        "idle_cpu_share": used / took,
        "writes_per_minute": writes * 60 / took,
        "processes": len(after),
    }


def begun(server: Server, tasks: int) -> dict[str, Any]:
    """Queue tasks one by one; how long it is from being queued to being begun."""
    server.ask("PUT", "/api/jobs/1/device", {"device": 1})
    waits = []
    for _ in range(tasks):
        server.ask("POST", "/api/jobs/1/trials", TRIAL)
        number = server.tasks()[-1].id
        server.until(lambda n=number: bool((t := server.task(n)) and t.over), "a trial", 120)
        task = server.task(number)
        assert task is not None
        assert task.started is not None
        waits.append((task.started - task.created).total_seconds() * 1000)
        time.sleep(REST)
    return {
        "tasks": tasks,
        "start_ms_p50": float(np.percentile(waits, 50)),
        "start_ms_p95": float(np.percentile(waits, 95)),
    }
