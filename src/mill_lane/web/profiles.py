"""Memory profiles of other renderers: kept, fed with trials, and fitted to them."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, HTTPException
from pydantic import BaseModel, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.devices.memory_profile import Logged, MemoryProfile, fit
from mill_lane.core.devices.model import GB
from mill_lane.core.errors import MillError
from mill_lane.core.recipe import Recipe
from mill_lane.core.weigh.what_if import WhatIf, load_of
from mill_lane.store.models import LoggedRow, ProfileRow
from mill_lane.web.api import Done
from mill_lane.web.context import Db, analysis_of, find_job, find_version

router = APIRouter(prefix="/api")


class ProfileForm(BaseModel):
    """A profile as the Machine page has it: the fixed part in GB, all else in bytes a unit."""

    name: Annotated[str, Field(min_length=1, max_length=80)]
    fixed_gb: Annotated[float, Field(ge=0, le=1000, title="Fixed")] = 0.5
    triangle: Annotated[float, Field(ge=0, le=1e6, title="A triangle")] = 120.0
    value8: Annotated[float, Field(ge=0, le=1e6, title="An 8-bit texture value")] = 1.33
    value16: Annotated[float, Field(ge=0, le=1e6, title="A 16-bit texture value")] = 2.67
    pixel: Annotated[float, Field(ge=0, le=1e6, title="A pixel of a layer")] = 16.0
    sample: Annotated[float, Field(ge=0, le=1e6, title="A sample in flight")] = 250.0
    denoise: Annotated[float, Field(ge=0, le=1e6, title="A pixel denoised in the render")] = 100.0

    def profile(self) -> MemoryProfile:
        return MemoryProfile(fixed=self.fixed_gb * GB, **self.model_dump(exclude={"fixed_gb"}))


def profiles(db: Session) -> list[ProfileRow]:
    return list(db.scalars(select(ProfileRow).where(~ProfileRow.removed).order_by(ProfileRow.id)))


def find_profile(db: Session, number: int) -> ProfileRow:
    row = db.get(ProfileRow, number)
    if row is None:
        raise HTTPException(404)
    return row


def logged(row: ProfileRow) -> list[tuple[LoggedRow, Logged]]:
    """The trials of a profile that were not taken out."""
    return [(t, Logged.model_validate(t.data)) for t in row.trials if not t.removed]


@router.post("/jobs/{job}/profiles")
def add_profile(db: Db, job: int, form: ProfileForm) -> Done:
    """Begin a profile with our own figures."""
    find_job(db, job)
    row = ProfileRow(data=form.profile().model_dump(mode="json"))
    db.add(row)
    db.flush()
    return Done(go=f"/jobs/{job}/machine?profile={row.id}")


@router.put("/profiles/{profile}")
def edit_profile(db: Db, profile: int, form: ProfileForm) -> Done:
    """Set the figures by hand."""
    row = find_profile(db, profile)
    row.data, row.decided = form.profile().model_dump(mode="json"), []
    return Done()


@router.delete("/profiles/{profile}")
def remove_profile(db: Db, profile: int) -> Done:
    find_profile(db, profile).removed = True
    return Done()


@router.post("/profiles/{profile}/restore")
def restore_profile(db: Db, profile: int) -> Done:
    """Undo a removal."""
    find_profile(db, profile).removed = False
    return Done()


class LogForm(BaseModel):
    """A trial of this job's scene made with the other renderer."""

    width: Annotated[int, Field(ge=1, le=16384)]
    height: Annotated[int, Field(ge=1, le=16384)]
    layers: Annotated[int, Field(ge=0, le=200, title="Layers beside the picture")] = 0
    samples: Annotated[int, Field(ge=0, le=10**9, title="Samples in flight")] = 0
    denoised: bool = False
    peak_gb: Annotated[float, Field(gt=0, le=100000, title="Peak")]
    note: Annotated[str, Field(max_length=200)] = ""


@router.post("/jobs/{job}/profiles/{profile}/trials")
def log_trial(db: Db, job: int, profile: int, form: LogForm) -> Done:
    """Log the peak that the other renderer reported for this job's scene, as it is now."""
    row = find_profile(db, profile)
    analysis = analysis_of(find_version(db, find_job(db, job)))
    recipe = WhatIf(width=form.width, height=form.height, layers=()).recipe(Recipe())
    load = load_of(analysis, recipe, form.samples, form.denoised)
    load = load.model_copy(update={"pixels": form.width * form.height * (1.0 + form.layers)})
    entry = Logged(load=load, peak_bytes=form.peak_gb * GB, note=form.note)
    db.add(LoggedRow(profile_id=row.id, data=entry.model_dump(mode="json")))
    return Done()


@router.delete("/logged/{trial}")
def remove_logged(db: Db, trial: int) -> Done:
    """Take a logged trial out; it can be put back."""
    return _put(db, trial, True)


@router.post("/logged/{trial}/restore")
def restore_logged(db: Db, trial: int) -> Done:
    return _put(db, trial, False)


def _put(db: Session, trial: int, removed: bool) -> Done:
    row = db.get(LoggedRow, trial)
    if row is None:
        raise HTTPException(404)
    row.removed = removed
    return Done()


@router.post("/profiles/{profile}/fit")
def fit_profile(db: Db, profile: int) -> Done:
    """Fit the figures to the logged trials."""
    row = find_profile(db, profile)
    trials: list[Any] = [t for _, t in logged(row)]
    if not trials:
        raise MillError(
            "There is no trial to fit to.", "Log the peak memory of at least one trial."
        )
    found = fit(MemoryProfile.model_validate(row.data), trials)
    row.data, row.decided = found.profile.model_dump(mode="json"), list(found.decided)
    return Done()
