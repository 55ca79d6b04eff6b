"""The Trials station: the next trial, the trial book, two of them compared."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any, Literal
from urllib.parse import quote, urlencode

from fastapi import APIRouter, Body, Depends, Query, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse, Response
from pydantic import BaseModel
from sqlalchemy.orm import Session

from mill_lane.core.crop import crop_text
from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.formats.pictures import small_jpeg
from mill_lane.core.names import short_name
from mill_lane.jobs import recipes, renders, sessions, weighing
from mill_lane.jobs.book import as_csv, book, pixel_of
from mill_lane.jobs.exposed import exposed
from mill_lane.jobs.lookup import (
    device_of,
    devices,
    find_job,
    find_render,
    find_trial,
    own_cpu,
    recipe_of,
)
from mill_lane.jobs.summary import Summary
from mill_lane.store.transactions import write
from mill_lane.web.shared.context import AHome, Db, Done, file_stem, home_of
from mill_lane.web.shared.pages import station_page
from mill_lane.web.shared.station import Figure, Station
from mill_lane.web.shared.uploads import received
from mill_lane.web.stations.trials import (
    denoise_routes,
    elsewhere_routes,
    live_routes,
    log,
    view,
)
from mill_lane.web.stations.trials.form import TrialForm

router = APIRouter()
router.include_router(denoise_routes.router)
router.include_router(elsewhere_routes.router)
router.include_router(live_routes.router)
SESSION_LIMIT = 4 * 10**9
Find = Annotated[str, Query(max_length=200)]


@router.get("/jobs/{job}/trials", include_in_schema=False)
def page(request: Request, db: Db, job: int, asked: Annotated[view.Asked, Depends()]) -> Response:
    """The picture, the settings of the next trial, and the trial book."""
    c = station_page(request, db, job, "trials", "Trials")
    if isinstance(c, Response):
        return c
    every = [(r.id, device_of(r)) for r in devices(db)]
    return c.draw(**view.context(db, c.summary, asked, every, own_cpu(db).id))


@router.post("/api/jobs/{job}/trials")
def run_trial(db: Db, job: int, form: TrialForm) -> Done:
    """Queue a trial and write it into the trial book."""
    row = find_job(db, job)
    trial = renders.run_trial(db, row, form.wish(recipe_of(db, row, form.role)))
    shown = {"b": trial.number} | ({"a": form.after} if form.after else {}) | {"role": form.role}
    return Done(go=f"/jobs/{row.id}/trials?{urlencode(shown)}")


@router.put("/api/trials/{trial}/note")
def note_trial(db: Db, trial: int, note: Annotated[str, Body(embed=True, max_length=2000)]) -> Done:
    """Write a note beside a trial."""
    find_render(db, trial, "trial").note = note.strip()
    return Done()


class Star(BaseModel):
    """Whether a trial is one to keep."""

    starred: bool


@router.put("/api/trials/{trial}/star")
def star_trial(db: Db, trial: int, star: Star) -> Done:
    """Mark a trial as one to keep, or no longer."""
    find_render(db, trial, "trial").starred = star.starred
    return Done()


@router.get("/trials/{trial}/small.jpg", include_in_schema=False)
def small_picture(db: Db, home: AHome, trial: int) -> Response:
    """A trial's picture, small enough for a row of the book."""
    row = find_render(db, trial, "trial")
    if not row.picture:
        raise NotFoundError("picture of that trial")
    # The address names the file: another one has another.
    kept = {"cache-control": "private, max-age=31536000, immutable"}
    pixels = small_jpeg(home.files.path(row.picture))
    return Response(pixels, media_type="image/jpeg", headers=kept)


@router.get("/jobs/{job}/trials.csv", include_in_schema=False)
def book_as_csv(db: Db, job: int) -> Response:
    """The trial book as a table."""
    row = find_job(db, job)
    return _sent(as_csv(book(db, row)), "text/csv", f"{file_stem(row.name)} trials.csv")


@router.get("/jobs/{job}/trials.json", include_in_schema=False)
def book_as_json(db: Db, job: int) -> Response:
    """The trial book with its recipes."""
    row = find_job(db, job)
    text = json.dumps(book(db, row), indent=1)
    return _sent(text, "application/json", f"{file_stem(row.name)} trials.json")


@router.get("/jobs/{job}/trials/book", include_in_schema=False)
def book_to_print(request: Request, db: Db, job: int, find: Find = "") -> Response:
    """The trial book with its pictures, to print."""
    c = station_page(request, db, job, "trials", "Trial book")
    if isinstance(c, Response):
        return c
    return c.draw("book.html", **view.book_context(db, c.summary, find))


def _sent(text: str, media: str, name: str) -> Response:
    named = f"attachment; filename*=UTF-8''{quote(name)}"
    return Response(text, media_type=media, headers={"Content-Disposition": named})


@router.get("/api/trials/{trial}/pixel")
def pixel(
    db: Db, home: AHome, trial: int, x: denoise_routes.Share, y: denoise_routes.Share
) -> dict[str, Any]:
    """What a trial has at a place, in shares of the whole picture."""
    row = find_render(db, trial, "trial")
    return pixel_of(db, home, row, x, y)


@router.get("/trials/{trial}/exposed.png", include_in_schema=False)
def exposed_picture(
    db: Db,
    home: AHome,
    trial: int,
    stops: float = 0.0,
    layer: Annotated[str, Query(max_length=40)] = "beauty",
) -> Response:
    """A trial's picture at another exposure, or what is made of it, for looking only."""
    pixels = exposed(home, find_render(db, trial, "trial"), stops, layer)
    # The address names the file: another one has another.
    kept = {"cache-control": "private, max-age=3600"}
    return Response(pixels, media_type="image/png", headers=kept)


class Into(BaseModel):
    """Which recipe it goes into."""

    role: Literal["draft", "final"] = "draft"


@router.post("/api/trials/{trial}/settings")
def put_back(db: Db, trial: int, into: Into) -> Done:
    """Take a trial's settings over: recipe, crop, and what it left out while looking."""
    found = find_render(db, trial, "trial")
    job = find_job(db, found.job_id)
    recipes.put_back(db, job, into.role, found)
    weighing.keep_up(db, job)
    hidden = [name for name, on in (found.preview or {}).items() if on is False]
    shown = {
        "role": into.role,
        "crop": crop_text(log.shares(found)),
        "hide": ",".join(hidden),
        "only_object": found.preview.get("only_object", ""),
        "only_component": found.preview.get("only_component", ""),
        "view": found.preview.get("view", ""),
    }
    return Done(go=f"/jobs/{job.id}/trials?{urlencode(shown)}")


class Base(BaseModel):
    """The number of the trial that all others are told against; None for the one before each."""

    base: int | None = None


@router.put("/api/jobs/{job}/base")
def set_base(db: Db, job: int, chosen: Base) -> Done:
    """Pin a trial: every other is told against it."""
    row = find_job(db, job)
    if chosen.base is not None:
        trial = find_trial(db, row, chosen.base)
        if not trial.measured:
            raise MillError("It has no picture yet.", "Wait until it is done, then pin it.")
    row.base = chosen.base
    return Done()


@router.delete("/api/trials/{trial}")
def remove_trial(db: Db, trial: int) -> Done:
    """Take a trial out of the book; it can be put back."""
    row = find_render(db, trial, "trial")
    row.removed = True
    return Done(go=f"/jobs/{row.job_id}/trials?removed={row.id}")


@router.post("/api/trials/{trial}/restore")
def restore_trial(db: Db, trial: int) -> Done:
    """Put a trial back into the book."""
    row = find_render(db, trial, "trial")
    row.removed = False
    return Done(go=f"/jobs/{row.job_id}/trials?a={row.number}")


@router.get("/tasks/{task}/session", include_in_schema=False)
def save_session(db: Db, home: AHome, task: int) -> FileResponse:
    """A paused trial as a file, from which it goes on bit for bit."""
    path, name = sessions.saved_session(db, home, task)
    return FileResponse(path, media_type="application/octet-stream", filename=name)


@router.post("/api/jobs/{job}/sessions", max_body_size=SESSION_LIMIT)
async def load_session(request: Request, job: int, name: str) -> Done:
    """A saved session as a new trial, paused where it was."""
    home, name = home_of(request), short_name(name, "session")
    await run_in_threadpool(write, home.sessions, lambda db: find_job(db, job).id)
    advice = "It cannot be a session that was saved here."
    again = "Save it again."
    async with received(request, home.scratch, name, SESSION_LIMIT, advice, again) as upload:

        def load() -> int:
            saved = sessions.read_session(upload.path, name)

            def inner(db: Session) -> int:
                return sessions.load_session(db, home, find_job(db, job), upload.path, saved).number

            return write(home.sessions, inner)

        number = await run_in_threadpool(load)
    return Done(go=f"/jobs/{job}/trials?b={number}")


def figure(summary: Summary) -> Figure:
    """How many trials are kept."""
    n = summary.trials
    return Figure(f"{n} kept" if n else "none yet", "order" if n else "todo")


TRIALS = Station("trials", "Trials", router, figure, Path(__file__).parent)
