"""How few samples hold: asked for a crop, found, set into the final recipe."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.crop import Crop, pixels_of
from mill_lane.core.denoise.found import Found
from mill_lane.core.errors import MillError
from mill_lane.core.recipe import Recipe, Region
from mill_lane.jobs.lookup import analysis_of, find_version, recipe_of
from mill_lane.jobs.renders import check_frame
from mill_lane.store.models import Job, Task
from mill_lane.work import queue
from mill_lane.work.kinds.hold import HOLD, Payload

WIDEST, HIGHEST = 192, 120  # pixels of a pilot's crop
TARGET = 0.05  # error of a pixel, relative, in the quadratic mean
LEAST_TARGET, MOST_TARGET = 0.002, 0.9


def pilot_crop(crop: Crop | None, recipe: Recipe) -> Region:
    """The pixels that a pilot looks at: what is wanted, or its middle where that is large."""
    x0, y0, x1, y1 = pixels_of(crop, recipe.width, recipe.height)
    wide, high = min(x1 - x0, WIDEST), min(y1 - y0, HIGHEST)
    left, top = (x0 + x1 - wide) // 2, (y0 + y1 - high) // 2
    return left, top, left + wide, top + high


def ask(db: Session, job: Job, crop: Crop | None, frame: int, target: float) -> Task:
    """Have a pilot run, unless the same is under way.

    Parameters
    ----------
    crop : tuple or None
        As shares of the frame; None for all of it.
    target : float
        The error of a pixel that is allowed, relative, in the quadratic mean.

    Raises
    ------
    MillError
        For a crop, a frame or a target that is none.
    """
    if not LEAST_TARGET <= target <= MOST_TARGET:
        raise MillError(
            f"A target of {100 * target:g} % is not between {100 * LEAST_TARGET:g} and "
            f"{100 * MOST_TARGET:g} %.",
            "Choose one: 5 % is hardly seen.",
        )
    version = find_version(db, job)
    frame = check_frame(frame, analysis_of(db, version))
    region = pilot_crop(crop, recipe_of(db, job, "final"))
    payload = Payload(version=version.id, region=region, frame=frame, target=target**2)
    known = newest(db, job)
    if known is not None and not known.over and Payload.model_validate(known.payload) == payload:
        return known
    return queue.put(db, HOLD, payload, job.id)


def newest(db: Session, job: Job) -> Task | None:
    """The newest pilot of a job."""
    query = select(Task).where(Task.kind == HOLD.name, Task.job_id == job.id)
    return db.scalars(query.order_by(Task.id.desc())).first()


def found_of(task: Task | None) -> Found | None:
    """What a pilot found, once it is over."""
    if task is None or task.state != "done":
        return None
    return Found.model_validate(task.result["found"])


def seconds_of(found: Found, recipe: Recipe, samples: int) -> float:
    """How long a frame with so many samples would take, denoised: from the pilot's own times."""
    pixels = recipe.width * recipe.height
    return found.seconds_sample * pixels * samples + found.seconds_clean * pixels / 1e6
