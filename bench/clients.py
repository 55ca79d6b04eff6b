"""Many clients at once, as people are: pages with pauses, events, trials, uploads, trims.

Each client looks at pages with 1 to 5 seconds between them and listens to events; now and then it
asks for a trial, stages and unstages trims, renames, or uploads a scene.  A trial renders all the
while, and some clients take the scene home at 200 kB a second.  What was accepted has to be there
at the end.
"""

from __future__ import annotations

import asyncio
import json
import sys
import tempfile
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx
import numpy as np

from bench.server import Server
from mill_lane.demo.make import make_demo
from mill_lane.store.models import Render, SceneVersion, Task

OPTIONS = {"clients": 50, "seconds": 600, "slow": 5, "seed": 1}
PAGES = ("scene", "machine", "fit", "trials", "trim", "finish", "")
HTML = {"accept": "text/html"}  # as browsers ask, for files too
SCENE = "/jobs/1/scene.glb"
PAUSE = (1.0, 5.0)  # seconds between two looks
SLOW_BYTES = 20_000  # that a slow download takes at a time,
SLOW_PAUSE = 0.1  # s, and then waits
KINDS = ("trials", "uploads", "trims", "renames", "news", "downloaded")
MOST_WAITING = 6  # tasks; more than that nobody asks for
TRIAL = {"width": 160, "height": 90, "samples": 40, "min_samples": 40, "bounces": 2, "whole": True}


@dataclass
class Seen:
    """What clients saw."""

    times: list[float] = field(default_factory=list)
    counts: Counter[str] = field(default_factory=Counter)
    trials: set[int] = field(default_factory=set)
    tasks: set[int] = field(default_factory=set)
    notes: list[str] = field(default_factory=list)


def run(
    clients: int = OPTIONS["clients"],
    seconds: int = OPTIONS["seconds"],
    slow: int = OPTIONS["slow"],
    seed: int = OPTIONS["seed"],
) -> dict[str, Any]:
    """Let so many clients at a server for so long."""
    with tempfile.TemporaryDirectory() as name:
        server = Server(Path(name) / "home")
        server.start()
        try:
            return campaign(server, clients, seconds, seed, slow)
        finally:
            server.stop()


def campaign(
    server: Server, clients: int, seconds: int, seed: int = 1, slow: int = 0
) -> dict[str, Any]:
    """The same on a server that runs."""
    scene = server.home.with_name("upload.glb")
    make_demo(scene, "small", 1)
    server.until(lambda: server.tasks(Task.kind == "weigh") and server.idle(), "the demo", 600)
    seen = Seen()
    asyncio.run(_all(server, scene.read_bytes(), clients, seconds, seed, seen, slow))
    lost = _lost(server, seen)
    if seen.tasks:
        lost += len(seen.tasks) - len(server.tasks(Task.id.in_(seen.tasks)))
    for text in seen.notes[:20]:
        print(text, file=sys.stderr)
    p50, p95, p99 = (1000 * float(np.percentile(seen.times, p)) for p in (50, 95, 99))
    return {
        "requests": seen.counts["requests"],
        "errors_5xx": seen.counts["5xx"],
        "unanswered": seen.counts["unanswered"],
        "lost_rows": lost,
        "p50_ms": p50,
        "p95_ms": p95,
        "p99_ms": p99,
        "pages": len(seen.times),
        **{k: seen.counts[k] for k in KINDS},
    }


def _lost(server: Server, seen: Seen) -> int:
    """Trials that were accepted and are not there, and tasks that ended without what they made."""
    with server.sessions() as db:
        numbers = {n for (n,) in db.query(Render.number).filter(Render.job_id == 1)}
        lost = len(seen.trials - numbers)
        for task in db.query(Task).filter(Task.kind == "open", Task.state == "done"):
            if db.get(SceneVersion, task.result.get("version")) is None:
                lost += 1
    return lost


async def _all(
    server: Server,
    scene: bytes,
    clients: int,
    seconds: int,
    seed: int,
    seen: Seen,
    slow: int,
) -> None:
    end = time.monotonic() + seconds
    limits = httpx.Limits(max_connections=None, max_keepalive_connections=None)
    async with httpx.AsyncClient(base_url=server.base, limits=limits, timeout=60) as http:
        people = [
            _person(http, server, scene, np.random.default_rng((seed, i)), end, seen)
            for i in range(clients)
        ]
        listeners = [_listen(http, end, seen) for _ in range(clients)]
        downloads = [_download(http, end, seen) for _ in range(slow)]
        await asyncio.gather(*people, *listeners, *downloads)


async def _download(http: httpx.AsyncClient, end: float, seen: Seen) -> None:
    """Take a file home over a slow line, again and again: what is not read waits at the server."""
    while time.monotonic() < end:
        seen.counts["requests"] += 1
        try:
            async with http.stream("GET", SCENE, headers=HTML) as stream:
                seen.counts["5xx"] += stream.status_code >= 500
                async for part in stream.aiter_raw(SLOW_BYTES):
                    seen.counts["downloaded"] += len(part)
                    if time.monotonic() > end:
                        return
                    await asyncio.sleep(SLOW_PAUSE)
        except httpx.HTTPError as e:
            seen.counts["unanswered"] += 1
            seen.notes.append(f"GET {SCENE}: {type(e).__name__} {e}")


async def _listen(http: httpx.AsyncClient, end: float, seen: Seen) -> None:
    """Listen to events, as every open page does."""
    while time.monotonic() < end:
        try:
            async with http.stream("GET", "/events") as stream:
                async for line in stream.aiter_lines():
                    if line.startswith("data:"):
                        seen.counts["news"] += 1
                    if time.monotonic() > end:
                        return
        except httpx.HTTPError:
            await asyncio.sleep(1)


async def _ask(
    http: httpx.AsyncClient, seen: Seen, method: str, path: str, **more: Any
) -> httpx.Response | None:
    seen.counts["requests"] += 1
    try:
        answer = await http.request(method, path, **more)
    except httpx.HTTPError as e:
        seen.counts["unanswered"] += 1
        seen.notes.append(f"{method} {path}: {type(e).__name__} {e}")
        return None
    if answer.status_code >= 500:
        seen.counts["5xx"] += 1
        seen.notes.append(f"{method} {path}: {answer.status_code} {answer.text[:200]}")
    return answer


async def _person(
    http: httpx.AsyncClient,
    server: Server,
    scene: bytes,
    rng: np.random.Generator,
    end: float,
    seen: Seen,
) -> None:
    await asyncio.sleep(float(rng.uniform(0, PAUSE[1])))
    while time.monotonic() < end:
        page = PAGES[int(rng.integers(len(PAGES)))]
        start = time.monotonic()
        path = f"/jobs/1/{page}" if page else "/"
        answer = await _ask(http, seen, "GET", path, headers=HTML)
        if answer is not None:
            seen.times.append(time.monotonic() - start)
        if rng.random() < 0.25:
            await _deed(http, scene, rng, seen)
        await asyncio.sleep(float(rng.uniform(*PAUSE)))


async def _deed(
    http: httpx.AsyncClient, scene: bytes, rng: np.random.Generator, seen: Seen
) -> None:
    what = rng.random()
    if what < 0.4:
        answer = await _ask(http, seen, "GET", "/healthz")
        queue = answer.json().get("queue") if answer is not None else None
        if queue and queue["waiting"] < MOST_WAITING:
            body = {**TRIAL, "seed": int(rng.integers(1000))}
            answer = await _ask(http, seen, "POST", "/api/jobs/1/trials", json=body)
            if answer is not None and answer.status_code == 200:
                seen.counts["trials"] += 1
                go = answer.json()["go"]
                seen.trials.add(int(go.partition("b=")[2].partition("&")[0]))
    elif what < 0.75:
        seen.counts["trims"] += 1
        body = {"all": True, "stage": bool(rng.random() < 0.5)}
        await _ask(http, seen, "POST", "/api/jobs/1/trim-list", json=body)
    elif what < 0.97:
        seen.counts["renames"] += 1
        name = {"name": f"Bakery {int(rng.integers(100))}"}
        await _ask(http, seen, "PUT", "/api/jobs/1/name", json=name)
    else:
        path = "/api/scenes?name=shop.glb"
        answer = await _ask(http, seen, "POST", path, content=scene)
        if answer is not None and answer.status_code == 200:
            seen.counts["uploads"] += 1
            made = json.loads(answer.text)
            seen.tasks.add(int(made["task"]))
            # One job is looked at by all: the others are put away, as finished work is.
            await _ask(http, seen, "DELETE", f"/api/jobs/{made['job']}")
