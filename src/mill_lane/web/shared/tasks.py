"""What pages ask of tasks: to stop, to pause, to look somewhere first, to run again; their
pictures.
"""

from __future__ import annotations

from contextlib import suppress

from fastapi import APIRouter
from fastapi.responses import FileResponse, Response
from pydantic import BaseModel, FiniteFloat
from sqlalchemy import select

from mill_lane.core.errors import NotFoundError
from mill_lane.jobs import tasks
from mill_lane.store.models import Render
from mill_lane.web.shared.context import AHome, Db, Done

router = APIRouter()


@router.post("/api/tasks/{task}/cancel")
def cancel(db: Db, task: int) -> Done:
    """Stop a task.  A trial or frame with at least one whole pass is kept as it is."""
    tasks.cancel(db, task)
    return Done()


@router.post("/api/tasks/{task}/first")
def put_first(db: Db, task: int) -> Done:
    """Let a task that waits go before all others."""
    tasks.put_first(db, task)
    return Done()


class Wishes(BaseModel):
    """What the artist wants of a render while it runs."""

    pause: bool | None = None
    clean: bool | None = None  # the picture on the way is denoised, quickly
    priority: tuple[FiniteFloat, FiniteFloat] | None = None  # in pixels of the whole picture


@router.put("/api/tasks/{task}/wants")
def want(db: Db, task: int, wishes: Wishes) -> Done:
    """Pause a render, let it go on, or move the point that is refined first."""
    tasks.want(db, task, **wishes.model_dump(exclude_unset=True))
    return Done()


@router.post("/api/tasks/{task}/retry")
def retry(db: Db, task: int) -> Done:
    """Run a failed or cancelled task again, from its checkpoint where it has one."""
    tasks.retry(db, task)
    return Done()


@router.get("/tasks/{task}/preview.png", include_in_schema=False)
def preview(db: Db, home: AHome, task: int) -> Response:
    """The picture of a render as it is; once the render is over, the picture that was kept."""
    path = home.scratch / f"task-{task}" / "preview.png"
    # Read at once: the worker may end and clear its folder while an answer is being sent.
    with suppress(FileNotFoundError):
        return Response(path.read_bytes(), media_type="image/png")
    row = db.scalars(select(Render).where(Render.task_id == task)).first()
    if row is None:
        raise NotFoundError("picture of that number")
    if row.picture:
        return FileResponse(home.files.path(row.picture), media_type="image/png")
    return Response(status_code=204)  # nothing to see yet, or any more
