"""Memory profiles of other renderers: kept, fed with trials, and fitted to them."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.devices.memory_profile import Logged, MemoryProfile, fit
from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.recipe import Recipe
from mill_lane.core.weigh.what_if import WhatIf, load_of
from mill_lane.jobs.lookup import analysis_of, find_version
from mill_lane.store.models import Job, LoggedRow, ProfileRow


@dataclass(frozen=True)
class Elsewhere:
    """A trial of a job's scene made with another renderer, and the peak that it reported."""

    width: int
    height: int
    layers: int
    samples: int
    denoised: bool
    peak_bytes: float
    note: str = ""


def profiles(db: Session) -> list[ProfileRow]:
    """All profiles that were not removed."""
    return list(db.scalars(select(ProfileRow).where(~ProfileRow.removed).order_by(ProfileRow.id)))


def find_profile(db: Session, number: int) -> ProfileRow:
    """The profile of that number, also a removed one."""
    row = db.get(ProfileRow, number)
    if row is None:
        raise NotFoundError("memory profile of that number")
    return row


def logged(row: ProfileRow) -> list[tuple[LoggedRow, Logged]]:
    """The trials of a profile that were not taken out."""
    return [(t, Logged.model_validate(t.data)) for t in row.trials if not t.removed]


def add(db: Session, profile: MemoryProfile) -> ProfileRow:
    """Begin a profile."""
    row = ProfileRow(data=profile.model_dump(mode="json"))
    db.add(row)
    db.flush()
    return row


def edit(db: Session, number: int, profile: MemoryProfile) -> None:
    """Set the figures by hand."""
    row = find_profile(db, number)
    row.data, row.decided = profile.model_dump(mode="json"), []


def set_removed(db: Session, number: int, removed: bool) -> None:
    """Remove a profile, or undo that."""
    find_profile(db, number).removed = removed


def log_trial(db: Session, job: Job, number: int, trial: Elsewhere) -> LoggedRow:
    """Log the peak that the other renderer reported for a job's scene, as it is now."""
    row = find_profile(db, number)
    analysis = analysis_of(db, find_version(db, job))
    recipe = WhatIf(width=trial.width, height=trial.height, layers=()).recipe(Recipe())
    load = load_of(analysis, recipe, trial.samples, trial.denoised)
    pixels = trial.width * trial.height * (1.0 + trial.layers)
    load = load.model_copy(update={"pixels": pixels})
    entry = Logged(load=load, peak_bytes=trial.peak_bytes, note=trial.note)
    made = LoggedRow(profile_id=row.id, data=entry.model_dump(mode="json"))
    db.add(made)
    db.flush()
    return made


def set_logged_removed(db: Session, number: int, removed: bool) -> None:
    """Take a logged trial out, or put it back."""
    row = db.get(LoggedRow, number)
    if row is None:
        raise NotFoundError("logged trial of that number")
    row.removed = removed


def fit_to_trials(db: Session, number: int) -> None:
    """Fit a profile's figures to its trials.  Raises MillError without any."""
    row = find_profile(db, number)
    trials = [t for _, t in logged(row)]
    if not trials:
        raise MillError(
            "There is no trial to fit to.", "Log the peak memory of at least one trial."
        )
    try:
        found = fit(MemoryProfile.model_validate(row.data), trials)
    except (ValueError, ArithmeticError) as e:  # also what linear algebra cannot solve
        raise MillError(
            "No figures fit these trials.", "Take out those whose peak cannot be right."
        ) from e
    row.data, row.decided = found.profile.model_dump(mode="json"), list(found.decided)
