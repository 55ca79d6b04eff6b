"""Server-sent events:

what the tasks are doing, and a stamp that changes when a page should be drawn anew.
"""

from __future__ import annotations

import asyncio
import json
import zlib
from collections.abc import AsyncIterator
from typing import Any

from fastapi import APIRouter, HTTPException, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse, Response, StreamingResponse
from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.store.home import Home
from mill_lane.store.models import Run, Task, Trial
from mill_lane.web.context import AHome, Db, home_of

router = APIRouter()
RHYTHM = 0.35
QUIET = 15.0  # seconds between signs of life


def stamp_of(db: Session) -> str:
    """Changes whenever a task is added, changes its state, or hands over a part of its result."""
    rows = db.execute(
        select(Task.id, Task.state, Task.live).order_by(Task.id.desc()).limit(50)
    ).all()
    said = [(number, state, (live or {}).get("stage", 0)) for number, state, live in rows]
    return f"{zlib.crc32(repr(said).encode()):08x}"


def news(home: Home) -> dict[str, Any]:
    """The stamp, and progress of every task that is not over."""
    with home.sessions() as db:
        tasks = db.scalars(
            select(Task)
            .where(Task.state.in_(("queued", "running", "paused")))
            .order_by(Task.id)
            .limit(50)
        )
        return {
            "stamp": stamp_of(db),
            "tasks": [
                {
                    "id": t.id,
                    "kind": t.kind,
                    "state": t.state,
                    "share": t.share,
                    "text": t.text,
                    "live": t.live,
                }
                for t in tasks
            ],
        }


@router.get("/events", include_in_schema=False)
async def stream(request: Request) -> StreamingResponse:
    home = home_of(request)

    async def lines() -> AsyncIterator[str]:
        last, waited = "", 0.0
        while not await request.is_disconnected():
            text = json.dumps(await run_in_threadpool(news, home))
            if text != last:
                last, waited = text, 0.0
                yield f"data: {text}\n\n"
            elif waited >= QUIET:
                waited = 0.0
                yield ": still here\n\n"
            await asyncio.sleep(RHYTHM)
            waited += RHYTHM

    return StreamingResponse(lines(), media_type="text/event-stream")


@router.get("/tasks/{task}/preview.png", include_in_schema=False)
def preview(db: Db, home: AHome, task: int) -> Response:
    """The picture of a render as it is; once the render is over, the picture that was kept."""
    path = home.scratch / f"task-{task}" / "preview.png"
    if path.is_file():
        return FileResponse(path, media_type="image/png")
    trial = db.scalars(select(Trial).where(Trial.task_id == task)).first()
    row = trial or db.scalars(select(Run).where(Run.task_id == task)).first()
    if row is None:
        raise HTTPException(404)
    if row.picture:
        return FileResponse(home.files.path(row.picture), media_type="image/png")
    return Response(status_code=204)  # nothing to see yet, or any more
