"""Denoising a trial: asked for, under way, done."""

from __future__ import annotations

import functools
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.denoise.masks import Where
from mill_lane.core.denoise.names import KEPT_EXR
from mill_lane.core.denoise.showing import Kept, read_kept
from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.formats.pictures import quick_png
from mill_lane.core.image.srgb import view
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.core.render.path_slots import COMPONENTS
from mill_lane.store.home import Home
from mill_lane.store.models import Render, Task
from mill_lane.work import queue
from mill_lane.work.kinds.denoise import DENOISE, DENOISE_LATER, Payload, Wanted

MOST_HELD = 2_500_000  # pixels of a picture that stays in memory while it is looked at


def denoise_trial(db: Session, trial: Render, wanted: Wanted | None = None) -> Task:
    """Have the noise taken out of a trial, unless that is under way in the same manner.

    Raises
    ------
    MillError
        Where the trial has no picture yet, or a component is none.
    """
    payload = Payload(render=trial.id, **(wanted or Wanted()).model_dump())
    for name in payload.components:
        if name not in COMPONENTS:
            raise MillError(f"“{name}” is no light component.", "Choose one of the list.")
    if not trial.exr:
        raise MillError("The trial has no picture yet.", "Wait until it is done.")
    known = denoising_of(db, trial)
    if known is not None and not known.over and Payload.model_validate(known.payload) == payload:
        return known
    return queue.put(db, DENOISE, payload, trial.job_id)


def denoising_of(db: Session, trial: Render) -> Task | None:
    """The newest task that denoises a trial."""
    kinds = (DENOISE.name, DENOISE_LATER.name)
    query = select(Task).where(Task.kind.in_(kinds), Task.job_id == trial.job_id)
    for task in db.scalars(query.order_by(Task.id.desc())):
        if task.payload.get("render") == trial.id:
            return task
    return None


def blend(
    home: Home,
    trial: Render,
    strength: float,
    where: Where,
    detail: float = 0.0,
    stops: float = 0.0,
) -> bytes:
    """The denoised picture as PNG, blended as wanted without computing it anew, and so many stops
    brighter.

    Parameters
    ----------
    home : Home
    trial : Render
    strength : float
        Share of the denoised picture, 0 to 1.
    where : Where
        What of the picture it concerns.
    detail : float
        Share of the fine detail of the raw one that is kept, 0 to 1.
    stops : float
        For looking only.

    Raises
    ------
    NotFoundError
        Where it was not denoised.
    MillError
        For a mask that the picture has nothing for.
    """
    pixels = kept_of(home, trial).mixed(strength, where, detail)
    return quick_png(view(pixels, read_recipe(trial.recipe).exposure + stops))


def kept_of(home: Home, trial: Render) -> Kept:
    """Raw and clean light of a denoised trial.  Raises NotFoundError where it was not denoised."""
    path, _ = clean_file(home, trial)
    whole = trial.region[2] - trial.region[0], trial.region[3] - trial.region[1]
    return _last(path) if whole[0] * whole[1] <= MOST_HELD else read_kept(path)


def clean_file(home: Home, trial: Render) -> tuple[Path, str]:
    """The EXR of a denoised trial, and a name for it.  Raises NotFoundError where there is none."""
    entry = trial.layers.get(KEPT_EXR)
    if entry is None:
        raise NotFoundError("denoised trial of that number")
    return home.files.path(entry["hash"]), f"trial {trial.number} denoised.exr"


@functools.lru_cache(maxsize=1)
def _last(path: Path) -> Kept:
    """The last one that was looked at stays, so that a control follows the hand."""
    return read_kept(path)
