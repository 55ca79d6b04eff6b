"""Pictures made elsewhere, sent into the trial book, and what is told of them."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from pydantic import AfterValidator, BaseModel, BeforeValidator, Field
from sqlalchemy.orm import Session

from mill_lane.core.crop import crop_of
from mill_lane.core.errors import MillError
from mill_lane.jobs import elsewhere
from mill_lane.jobs.lookup import find_job, find_render
from mill_lane.store.transactions import write
from mill_lane.web.shared.context import Db, Done, home_of
from mill_lane.web.shared.uploads import received
from mill_lane.web.stations.trials.sent import sent_for_trial

router = APIRouter()
LIMIT = 400 * 10**6
ADVICE, AGAIN = "Save the picture alone, without other layers.", "Save it again."
CLOCK = re.compile(r"(?:(\d{1,4}):)?(\d{1,4}):(\d{1,2}(?:\.\d*)?)")


def _seconds(typed: object) -> object:
    """Seconds from what is typed: 200, 3:20 or 1:02:30; None for nothing."""
    if not isinstance(typed, str):
        return typed
    text = typed.strip()
    found = CLOCK.fullmatch(text)
    if found is None:
        return text or None
    hours, minutes, seconds = (float(x or 0) for x in found.groups())
    return 3600 * hours + 60 * minutes + seconds


def _or_none(typed: object) -> object:
    return None if isinstance(typed, str) and not typed.strip() else typed


def _known(value: float | None) -> float | None:
    return value or None  # 0 is no time that anything takes


Number = Annotated[
    float | None,
    Field(ge=0, le=1e9, allow_inf_nan=False),
    BeforeValidator(_or_none),
    AfterValidator(_known),
]
Time = Annotated[
    float | None,
    Field(ge=0, le=1e9, allow_inf_nan=False),
    BeforeValidator(_seconds),
    AfterValidator(_known),
]


class Told(BaseModel):
    """What somebody says of a picture made elsewhere; what is left out stays as it was."""

    time: Time = None
    samples: Number = None
    gigabytes: Number = None


@router.post("/api/jobs/{job}/elsewhere", max_body_size=LIMIT)
async def add(request: Request, job: int, name: str) -> Done:
    """Take a picture made elsewhere into the trial book."""
    short, home = elsewhere.check_name(name), home_of(request)
    await run_in_threadpool(write, home.sessions, lambda db: find_job(db, job).id)
    async with received(request, home.scratch, short, LIMIT, ADVICE, AGAIN) as upload:

        def take() -> int:
            with tempfile.TemporaryDirectory(dir=home.scratch) as folder:
                found = elsewhere.take_in(home, upload.path, short, Path(folder))

                def inner(db: Session) -> int:
                    return elsewhere.add(db, find_job(db, job), short, *found).number

                return write(home.sessions, inner)

        number = await run_in_threadpool(take)
    return Done(go=f"/jobs/{job}/trials?b={number}")


@router.put("/api/trials/{trial}/figures")
def tell(db: Db, trial: int, told: Told) -> Done:
    """Say how long a picture made elsewhere took, its samples and its memory."""
    elsewhere.tell(find_render(db, trial, "trial"), told.model_dump(exclude_unset=True))
    return Done()


class Placed(BaseModel):
    """The part of the view that it shows, in shares; or all of it."""

    crop: Annotated[str, Field(max_length=200)] = ""
    whole: bool = False


@router.put("/api/trials/{trial}/place")
def place(db: Db, trial: int, placed: Placed) -> Done:
    """Say which part of the view a picture made elsewhere shows."""
    row = find_render(db, trial, "trial")
    crop = None if placed.whole else crop_of(placed.crop)
    if crop is None and not placed.whole:
        raise MillError(
            "No crop is drawn.",
            "Draw one over what the picture shows.",
            "It stands where it stood.",
        )
    elsewhere.place(db, find_job(db, row.job_id), row, crop)
    return Done()


@router.post("/api/trials/{trial}/second", max_body_size=LIMIT)
async def second(request: Request, trial: int, name: str) -> Done:
    """Measure the noise of a picture made elsewhere from another render of the same view."""
    return await sent_for_trial(
        request,
        trial,
        elsewhere.check_name(name),
        LIMIT,
        (ADVICE, AGAIN),
        elsewhere.measure,
        elsewhere.keep_noise,
    )
