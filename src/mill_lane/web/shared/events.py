"""Server-sent events: what the tasks are doing, and a stamp that changes when a page should too."""

from __future__ import annotations

import asyncio
import json
import zlib
from collections.abc import AsyncIterator
from typing import Any

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from sqlalchemy import select
from sqlalchemy.orm import Session
from sse_starlette.sse import EventSourceResponse

from mill_lane.store.home import Home
from mill_lane.store.models import Task
from mill_lane.web.shared.context import home_of
from mill_lane.web.shared.format import duration, percent

router = APIRouter()
RHYTHM = 0.35  # seconds
QUIET = 15  # seconds between signs of life
MOST = 50


def stamp_of(db: Session) -> str:
    """Changes whenever a task is added, changes its state, or hands over a part of its result."""
    rows = db.execute(
        select(Task.id, Task.state, Task.live).order_by(Task.id.desc()).limit(MOST)
    ).all()
    said = [(number, state, (live or {}).get("stage", 0)) for number, state, live in rows]
    return f"{zlib.crc32(repr(said).encode()):08x}"


def said_of(task: Task) -> dict[str, str]:
    """A task's figures in the words that pages use at rest."""
    live = task.live or {}
    out = {"text": task.text, "share": f"{task.share * 100:.0f} %"}
    if live.get("left") is not None:
        out["left"] = f"about {duration(live['left'])} left"
    if live.get("seconds") is not None:
        out["seconds"] = duration(live["seconds"])
    if live.get("samples") is not None:
        out["samples"] = f"{live['samples']:.1f}"
    if live.get("noise") is not None:
        out["noise"] = percent(live["noise"])
    return out


def news(home: Home) -> dict[str, Any]:
    """The stamp, and what is said of every task that is not over."""
    with home.sessions() as db:
        going = Task.state.in_(("queued", "running", "paused"))
        tasks = db.scalars(select(Task).where(going).order_by(Task.id).limit(MOST))
        return {
            "stamp": stamp_of(db),
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


@router.get("/events", include_in_schema=False)
async def stream(request: Request) -> EventSourceResponse:
    """Tell the page whatever is new, as it happens."""
    home = home_of(request)

    async def lines() -> AsyncIterator[dict[str, str]]:
        last = ""
        while True:
            text = json.dumps(await run_in_threadpool(news, home))
            if text != last:
                last = text
                yield {"data": text}
            await asyncio.sleep(RHYTHM)

    return EventSourceResponse(lines(), ping=QUIET)
