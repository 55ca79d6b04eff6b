"""The list of jobs, and scenes coming in."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Body, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import RedirectResponse, Response
from pydantic import BaseModel, Field

from mill_lane.core.formats.catalogue import read_endings
from mill_lane.core.formats.choices import parse_choices
from mill_lane.jobs import opening
from mill_lane.jobs.lookup import find_job
from mill_lane.jobs.tasks import preparing
from mill_lane.store.models import Job
from mill_lane.store.transactions import write
from mill_lane.web.home.view import cards
from mill_lane.web.shared.context import Db, Done, home_of, settings_of
from mill_lane.web.shared.pages import draw
from mill_lane.web.shared.uploads import received

router = APIRouter()
UPLOAD_LIMIT = 8 * 10**9


@router.get("/", include_in_schema=False)
def page(request: Request, db: Db, removed: int | None = None) -> Response:
    """The jobs, and the place to drop a scene on."""
    folder = settings_of(request).scenes
    gone = db.get(Job, removed) if removed else None
    return draw(
        request,
        db,
        "home/page.html",
        title="Jobs",
        endings=read_endings(),
        jobs=cards(db, request.app.state.stations),
        prepare=preparing(db),
        scenes=request.app.state.scene_folder.listed(),
        folder=folder,
        gone=gone if gone is not None and gone.removed else None,
    )


@router.get("/jobs/{job}", include_in_schema=False)
def job_page(db: Db, job: int) -> Response:
    """A job begins at its scene."""
    return RedirectResponse(f"/jobs/{find_job(db, job).id}/scene")


class Root(BaseModel):
    """One of the scenes in a ZIP, by its path."""

    root: Annotated[str, Field(max_length=1000)]


@router.post("/api/jobs/{job}/root")
def choose_root(db: Db, job: int, form: Root) -> Done:
    """Open one of several scenes of the ZIP that was sent."""
    opening.choose_root(db, find_job(db, job), form.root)
    return Done(go=f"/jobs/{job}/scene")


Choose = Annotated[str, Field(max_length=1000)]


class Opened(BaseModel):
    """The job that was begun, and the task that reads its scene."""

    job: int
    task: int
    go: str


def _opened(made: opening.Opened) -> Opened:
    return Opened(job=made.job, task=made.task, go=f"/jobs/{made.job}/scene")


@router.post("/api/scenes", max_body_size=UPLOAD_LIMIT)
async def upload(request: Request, name: str, choose: Choose = "") -> Opened:
    """A scene file as the body of the request."""
    short, home = opening.check_name(name), home_of(request)
    parse_choices(choose)
    advice = "Put it into a folder and start with --scenes FOLDER."
    again = "Export the scene again."
    async with received(request, home.scratch, short, UPLOAD_LIMIT, advice, again) as upload:

        def accept() -> opening.Opened:
            name = upload.path.name
            return write(home.sessions, lambda db: opening.open_file(db, name, short, True, choose))

        made = await run_in_threadpool(accept)
        upload.taken = True  # the task owns it from here on
    return _opened(made)


@router.post("/api/scenes/from-folder")
def from_folder(
    request: Request, db: Db, file: Annotated[str, Body()], choose: Annotated[Choose, Body()] = ""
) -> Opened:
    """A file of the folder that was named at the start."""
    made = opening.open_from_folder(db, settings_of(request).scenes, file, choose)
    return _opened(made)


@router.put("/api/jobs/{job}/name")
def rename(
    db: Db, job: int, name: Annotated[str, Body(embed=True, min_length=1, max_length=120)]
) -> Done:
    """Call a job otherwise."""
    opening.rename(db, job, name)
    return Done()


@router.delete("/api/jobs/{job}")
def remove_job(db: Db, job: int) -> Done:
    """Put a job away; it can be put back."""
    return Done(go=f"/?removed={opening.put_away(db, job).id}")


@router.post("/api/jobs/{job}/restore")
def restore_job(db: Db, job: int) -> Done:
    """Put a job back."""
    opening.put_back(db, job)
    return Done(go="/")
