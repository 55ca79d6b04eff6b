"""What the page asks of memory profiles."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field

from mill_lane.core.devices.memory_profile import MemoryProfile
from mill_lane.core.devices.model import GB
from mill_lane.jobs import profiles
from mill_lane.jobs.lookup import find_job
from mill_lane.web.shared.context import Db, Done

router = APIRouter(prefix="/api")
Unit = Annotated[float, Field(ge=0, le=1e6)]


class ProfileForm(BaseModel):
    """A profile as the page has it: the fixed part in GB, all else in bytes a unit."""

    name: Annotated[str, Field(min_length=1, max_length=80)]
    fixed_gb: Annotated[float, Field(ge=0, le=1000, title="Fixed")] = 0.5
    triangle: Annotated[Unit, Field(title="A triangle")] = 120.0
    value8: Annotated[Unit, Field(title="An 8-bit texture value")] = 1.33
    value16: Annotated[Unit, Field(title="A 16-bit texture value")] = 2.67
    pixel: Annotated[Unit, Field(title="A pixel of a layer")] = 16.0
    sample: Annotated[Unit, Field(title="A sample in flight")] = 250.0
    denoise: Annotated[Unit, Field(title="A pixel denoised in the render")] = 100.0

    def profile(self) -> MemoryProfile:
        """The profile, in bytes."""
        return MemoryProfile(fixed=self.fixed_gb * GB, **self.model_dump(exclude={"fixed_gb"}))


@router.post("/jobs/{job}/profiles")
def add_profile(db: Db, job: int, form: ProfileForm) -> Done:
    """Begin a profile with our own figures."""
    row = profiles.add(db, form.profile())
    return Done(go=f"/jobs/{find_job(db, job).id}/machine?profile={row.id}")


@router.put("/profiles/{profile}")
def edit_profile(db: Db, profile: int, form: ProfileForm) -> Done:
    """Set the figures by hand."""
    profiles.edit(db, profile, form.profile())
    return Done()


@router.delete("/profiles/{profile}")
def remove_profile(db: Db, profile: int) -> Done:
    """Remove a profile; it can be restored."""
    profiles.set_removed(db, profile, True)
    return Done()


@router.post("/profiles/{profile}/restore")
def restore_profile(db: Db, profile: int) -> Done:
    """Undo a removal."""
    profiles.set_removed(db, profile, False)
    return Done()


class LogForm(BaseModel):
    """A trial of this job's scene made with the other renderer."""

    width: Annotated[int, Field(ge=1, le=16384)]
    height: Annotated[int, Field(ge=1, le=16384)]
    layers: Annotated[int, Field(ge=0, le=200, title="Layers beside the picture")] = 0
    samples: Annotated[int, Field(ge=0, le=10**9, title="Samples in flight")] = 0
    denoised: bool = False
    peak_gb: Annotated[float, Field(ge=1e-6, le=100000, title="Peak")]
    note: Annotated[str, Field(max_length=200)] = ""


@router.post("/jobs/{job}/profiles/{profile}/trials")
def log_trial(db: Db, job: int, profile: int, form: LogForm) -> Done:
    """Log the peak that the other renderer reported for this job's scene, as it is now."""
    values = form.model_dump(exclude={"peak_gb"})
    trial = profiles.Elsewhere(**values, peak_bytes=form.peak_gb * GB)
    profiles.log_trial(db, find_job(db, job), profile, trial)
    return Done()


@router.delete("/logged/{trial}")
def remove_logged(db: Db, trial: int) -> Done:
    """Take a logged trial out; it can be put back."""
    profiles.set_logged_removed(db, trial, True)
    return Done()


@router.post("/logged/{trial}/restore")
def restore_logged(db: Db, trial: int) -> Done:
    """Put a logged trial back."""
    profiles.set_logged_removed(db, trial, False)
    return Done()


@router.post("/profiles/{profile}/fit")
def fit_profile(db: Db, profile: int) -> Done:
    """Fit the figures to the logged trials."""
    profiles.fit_to_trials(db, profile)
    return Done()
