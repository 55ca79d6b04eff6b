"""Files beside the scene:

a picture of the sky, and sessions that were saved and are taken up again.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from fastapi import APIRouter, HTTPException, Request
from fastapi.responses import FileResponse
from pydantic import BaseModel, ConfigDict, ValidationError
from sqlalchemy import select
from starlette.concurrency import run_in_threadpool

from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import SKY_ENDINGS, read_sky
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.state import state_about
from mill_lane.store.models import Task, Trial
from mill_lane.web.api import Done, Shot, add_trial
from mill_lane.web.context import AHome, Db, device_of, find_job
from mill_lane.web.uploads import received

router = APIRouter()
LIMIT = 4 * 10**9


@router.post("/api/jobs/{job}/sky")
async def set_sky(request: Request, db: Db, home: AHome, job: int, name: str) -> Done:
    """Take an HDR or EXR picture as the sky of the job's recipes."""
    row = find_job(db, job)
    short = Path(name.replace("\\", "/")).name[-200:] or "sky"
    if not short.lower().endswith(SKY_ENDINGS):
        raise MillError(
            f"“{short}” is neither HDR nor EXR.",
            "Save the picture as .hdr or .exr.",
            "The sky stays as it was.",
        )
    path = await received(
        request,
        home.scratch,
        short,
        LIMIT,
        "Save it smaller: 4096 pixels are enough for a sky.",
        "Save it again.",
    )
    try:
        height, width, _ = (await run_in_threadpool(read_sky, path, short)).shape
        digest = await run_in_threadpool(home.files.take, path, db, short)
    finally:
        path.unlink(missing_ok=True)
    _use_sky(row, f"{digest}/{width}x{height}/{short}")
    return Done()


@router.delete("/api/jobs/{job}/sky")
def no_sky(db: Db, job: int) -> Done:
    """Back to the sky of before; the picture stays in the store."""
    _use_sky(find_job(db, job), "")
    return Done()


def _use_sky(job: Any, sky: str) -> None:
    job.draft = Recipe.model_validate({**job.draft, "environment_picture": sky}).model_dump(
        mode="json"
    )
    job.final = Recipe.model_validate({**job.final, "environment_picture": sky}).model_dump(
        mode="json"
    )


class About(BaseModel):
    """What a saved session says of itself."""

    model_config = ConfigDict(extra="forbid")

    file_hash: str
    recipe: Recipe
    region: tuple[int, int, int, int]
    frame: int
    preview: dict[str, Any]
    note: str


@router.get("/tasks/{task}/session")
def save_session(db: Db, home: AHome, task: int) -> FileResponse:
    """A paused trial as a file, from which it goes on bit for bit."""
    row = db.get(Task, task)
    trial = db.scalars(select(Trial).where(Trial.task_id == task)).first()
    state = home.task_folder(task) / "state.npz"
    if row is None or trial is None or row.state != "paused" or not state.exists():
        raise HTTPException(404)
    return FileResponse(
        state, media_type="application/octet-stream", filename=f"trial-{trial.number}.session"
    )


@router.post("/api/jobs/{job}/sessions")
async def load_session(request: Request, db: Db, home: AHome, job: int, name: str) -> Done:
    """A saved session as a new trial, paused where it was."""
    row = find_job(db, job)
    short = Path(name.replace("\\", "/")).name[-200:] or "session"
    path = await received(
        request,
        home.scratch,
        short,
        LIMIT,
        "It cannot be a session that was saved here.",
        "Save it again.",
    )
    try:
        about = await run_in_threadpool(_about, path, short)
        version = next((v for v in row.versions if v.file_hash == about.file_hash), None)
        if version is None:
            raise MillError(
                f"“{short}” was saved with another scene than this job has.",
                "Open that scene, and load the session there.",
                "Nothing was changed.",
            )
        shot = Shot(about.recipe, about.region, about.frame, about.preview)
        trial, task = add_trial(
            db, row, version, shot, device_of(row.device), about.note or f"loaded from {short}"
        )
        task.state, task.text = "paused", "paused"
        path.replace(home.task_folder(task.id) / "state.npz")
    finally:
        path.unlink(missing_ok=True)
    return Done(go=f"/jobs/{row.id}/trials?b={trial.number}")


def _about(path: Path, name: str) -> About:
    try:
        return About.model_validate_json(state_about(path, name))
    except ValidationError as e:
        raise MillError(
            f"“{name}” was saved by another edition of Mill Lane.",
            "Run the trial again here.",
            "Nothing was changed.",
        ) from e
