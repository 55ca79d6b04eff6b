"""The look that runs: what it is to look at, its picture as it sharpens, a trial made of it."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Mapping
from typing import Annotated, Any

from fastapi import APIRouter, Body, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response
from pydantic import BaseModel, Field, FiniteFloat

from mill_lane.jobs import live
from mill_lane.jobs.lookup import find_job, recipe_of
from mill_lane.store.transactions import write
from mill_lane.web.shared.context import AHome, Db, Done, home_of
from mill_lane.web.shared.events import time_left
from mill_lane.web.shared.format import duration, percent
from mill_lane.web.stations.trials.form import TrialForm

router = APIRouter()
PATIENCE = 2.0  # seconds that an answer waits for another picture
GLANCE = 0.015  # seconds between two looks whether there is one
# What is said of a look that goes on no more.
ENDS = {
    "samples": "enough",
    "noise": "clean",
    "paused": "held",
    "left alone": "left alone",
    "another scene": "of the scene before",
}
SAVING = 10.0  # seconds that freezing waits for a whole sample


class LiveForm(TrialForm):
    """The form of the next trial, and how its look is shown."""

    layer: Annotated[str, Field(max_length=40)] = "beauty"
    clean: bool = False
    place: tuple[FiniteFloat, FiniteFloat] | None = None
    paused: bool = False
    stops: FiniteFloat = 0.0


class Asked(BaseModel):
    """The number of a wish: pictures that are of it say so."""

    number: str  # beyond what a page's numbers can hold


@router.post("/api/jobs/{job}/live")
def look(db: Db, home: AHome, job: int, form: LiveForm) -> Asked:
    """Want something looked at from now on."""
    row = find_job(db, job)
    shown = live.Shown(form.layer, form.clean, form.place, form.paused, form.stops)
    wish = form.wish(recipe_of(db, row, form.role))
    return Asked(number=str(live.look(db, home, row, wish, shown)))


@router.get("/jobs/{job}/live", include_in_schema=False)
async def picture(request: Request, home: AHome, job: int, after: str = "") -> Response:
    """What there is to see, as soon as it is another picture than `after`; what is said of it
    stands in the header `Look`.
    """
    files = live.files_of(home, job)
    files.look()
    end = time.monotonic() + PATIENCE
    while (stamp := files.stamp()) == after and time.monotonic() < end:
        if await request.is_disconnected():
            return Response(status_code=204)
        await asyncio.sleep(GLANCE)
    said: dict[str, Any] = {"stamp": stamp, "same": stamp == after}
    found = b""
    if stamp and stamp != after:
        about, found = await run_in_threadpool(files.read)
        said |= about | {"number": str(about.get("number", "")), "words": words_of(about)}
    return Response(
        found,
        media_type="image/png",
        headers={"Look": json.dumps(said), "Cache-Control": "no-store"},
    )


def words_of(said: Mapping[str, Any]) -> str:
    """What is said of a look, as the page shows it."""
    phase, samples = said.get("phase"), float(said.get("samples") or 0)
    if phase == "wrong":
        return f"{said.get('error', '')} {said.get('hint', '')}".strip()
    if phase == "loading":
        left = said.get("left")
        return f"{said.get('text', '')}" + (f", {time_left(left, True)}" if left else "")
    noise = f", {percent(said['noise'])} noise" if said.get("noise") else ""
    if samples < 1:
        much = "coarse"
    else:
        much = f"{samples:.3g} samples{noise}, {duration(said.get('seconds'))}"
    if said.get("scale"):  # its ends are its own: the page cannot know them
        low, high, unit = said["scale"]
        much += f", colours from {low:g} to {high:g} {unit}".rstrip()
    return f"{ENDS[phase]}: {much}" if phase in ENDS else much


@router.post("/api/jobs/{job}/live/freeze")
async def freeze(
    request: Request,
    job: int,
    note: Annotated[str, Body(embed=True, max_length=2000)] = "",
) -> Done:
    """Make a trial of what is on the screen, while the look goes on."""
    home = home_of(request)

    def ask() -> int:
        return write(home.sessions, lambda db: live.ask_to_freeze(db, home, find_job(db, job)))

    number = await run_in_threadpool(ask)
    path, end = live.files_of(home, job).frozen(number), time.monotonic() + SAVING
    while not path.exists() and time.monotonic() < end:
        await asyncio.sleep(GLANCE)

    def take() -> None:
        write(
            home.sessions,
            lambda db: live.freeze(db, home, find_job(db, job), number, note.strip()).id,
        )
        live.files_of(home, job).forget_frozen()

    await run_in_threadpool(take)
    return Done()
