"""Server-sent events: what the tasks are doing, and a stamp that changes when a page should too."""

from __future__ import annotations

import asyncio
import contextlib
import json
import sqlite3
import time
import zlib
from collections.abc import AsyncIterator
from typing import Any

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from sqlalchemy import select
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session
from sse_starlette.sse import EventSourceResponse

from mill_lane.store.models import Task
from mill_lane.web.shared.format import duration, percent
from mill_lane.web.shared.health import troubles
from mill_lane.web.shared.settings import Settings
from mill_lane.work.wake import Changes

router = APIRouter()
RHYTHM, SLOWEST = 0.35, 1.5  # seconds between two rounds of news, while something is done
AT_REST = 1.0  # the same while nothing is
ANYWAY = 5.0  # seconds after which news are gathered although nobody wrote: a disk may fill up
EACH = 0.03  # seconds more for each that listens, beyond the first dozen
NEARLY = 2.0  # seconds below which nobody can tell how many are left
QUIET = 15  # seconds between signs of life
MOST = 50
PARTS = ("stage", "stamp")  # of what a task tells: a change of these is one of the page


def stamp_of(db: Session) -> str:
    """Changes whenever a task is added, changes its state, or hands over a part of its result."""
    rows = db.execute(
        select(Task.id, Task.state, Task.live).order_by(Task.id.desc()).limit(MOST)
    ).all()
    said = [(n, state, [(live or {}).get(k, 0) for k in PARTS]) for n, state, live in rows]
    return f"{zlib.crc32(repr(said).encode()):08x}"


def said_of(task: Task) -> dict[str, str]:
    """A task's figures in the words that pages use at rest."""
    live = task.live or {}
    out = {"text": task.text, "share": f"{task.share * 100:.0f} %"}
    if live.get("left") is not None:
        out["left"] = time_left(float(live["left"]), live.get("phase") == "loading")
    if live.get("seconds") is not None:
        out["seconds"] = duration(live["seconds"])
    if live.get("samples") is not None:
        out["samples"] = f"{live['samples']:.1f}"
    if live.get("noise") is not None:
        out["noise"] = percent(live["noise"])
    return out


def time_left(seconds: float, loading: bool) -> str:
    """Seconds left in words: of loading, or of all of it."""
    if loading:
        return f"about {duration(seconds)} to load" if seconds >= NEARLY else "nearly loaded"
    return f"about {duration(seconds)} left" if seconds >= NEARLY else "nearly done"


def news(settings: Settings) -> dict[str, Any]:
    """The stamp, what is said of every task that is not over, and what keeps work from being
    done.
    """
    with settings.home.sessions() as db:
        going = Task.state.in_(("queued", "running", "paused"))
        tasks = db.scalars(select(Task).where(going).order_by(Task.id).limit(MOST))
        return {
            "stamp": stamp_of(db),
            "troubles": troubles(settings),
            "tasks": [
                {
                    "id": t.id,
                    "state": t.state,
                    "share": t.share,
                    "preview": (t.live or {}).get("preview", 0),
                    "said": said_of(t),
                }
                for t in tasks
            ],
        }


class Newsroom:
    """The news, gathered once for all pages that listen."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.listeners = 0
        self._gathering = asyncio.Lock()
        self._changes: Changes | None = None
        self._text, self._resting = "", False
        self._looked = self._gathered = -ANYWAY

    @property
    def rhythm(self) -> float:
        """Seconds between two rounds of news: more where many listen, or nothing is done."""
        return min(SLOWEST, max(AT_REST if self._resting else RHYTHM, self.listeners * EACH))

    async def latest(self) -> str:
        """The news as JSON, not older than the rhythm; the last ones while the database is busy.

        They are gathered where the database was changed: to ask for that costs next to nothing.
        """
        async with self._gathering:
            if time.monotonic() - self._looked >= self.rhythm:
                self._looked = time.monotonic()
                if self._changed() or self._looked - self._gathered >= ANYWAY:
                    await self._gather()
        return self._text

    def _changed(self) -> bool:
        if self._changes is None:
            database = self.settings.home.database
            self._changes = Changes(sqlite3.connect(database, timeout=0, isolation_level=None))
            return True
        return self._changes.met()

    async def _gather(self) -> None:
        self._gathered = -ANYWAY  # again at the next look, where it does not succeed
        with contextlib.suppress(OperationalError):
            found = await run_in_threadpool(news, self.settings)
            self._text, self._resting = json.dumps(found), not found["tasks"]
            self._gathered = time.monotonic()


@router.get("/events", include_in_schema=False)
async def stream(request: Request) -> EventSourceResponse:
    """Tell the page whatever is new, as it happens."""
    newsroom: Newsroom = request.app.state.newsroom

    async def lines() -> AsyncIterator[dict[str, str]]:
        last = ""
        newsroom.listeners += 1
        try:
            while True:
                text = await newsroom.latest()
                if text and text != last:
                    last = text
                    yield {"data": text}
                await asyncio.sleep(newsroom.rhythm)
        finally:
            newsroom.listeners -= 1

    return EventSourceResponse(lines(), ping=QUIET)
