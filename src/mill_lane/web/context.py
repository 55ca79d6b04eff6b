"""What routes share: the installation, a session, and looking things up."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Any

from fastapi import Depends, HTTPException, Request
from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.devices.model import Device
from mill_lane.core.errors import MillError
from mill_lane.core.recipe import Recipe
from mill_lane.core.trim.distance import Proposal, by_distance
from mill_lane.core.trim.footprint import by_footprint
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.store.home import Home
from mill_lane.store.models import DeviceRow, Job, SceneVersion, Task, Trial

if TYPE_CHECKING:
    from mill_lane.web.app import Settings


def settings_of(request: Request) -> Settings:
    settings: Settings = request.app.state.settings
    return settings


def home_of(request: Request) -> Home:
    return settings_of(request).home


def session_of(request: Request) -> Iterator[Session]:
    """A session for one request; committed when it went well."""
    with home_of(request).sessions() as session:
        yield session
        session.commit()


# Committed before the answer goes out: the page asks again at once, and must see what it changed.
Db = Annotated[Session, Depends(session_of, scope="function")]
AHome = Annotated[Home, Depends(home_of)]


def find_job(db: Session, number: int) -> Job:
    job = db.get(Job, number)
    if job is None or job.removed:
        raise HTTPException(404)
    return job


def find_version(db: Session, job: Job) -> SceneVersion:
    """The version in use.  Raises MillError while the scene is still being opened."""
    version = db.get(SceneVersion, job.version_id) if job.version_id else None
    if version is None:
        raise MillError(
            f"The scene of “{job.name}” is not open yet.",
            "Wait until it has been read, or open it again.",
        )
    return version


_analyses: dict[tuple[object, ...], Analysis] = {}


def analysis_of(version: SceneVersion) -> Analysis:
    """The version's analysis.

    Parsed once for each stage of weighing: else a version never changes.
    """
    key = (version.file_hash, version.id, version.created, version.analysis.get("stage", 0))
    if key not in _analyses:
        if len(_analyses) > 32:
            _analyses.clear()
        _analyses[key] = Analysis.model_validate(version.analysis)
    return _analyses[key]


def proposed(rule: str, analysis: Analysis, height: int) -> list[Proposal]:
    """Textures that a rule, "distance" or "footprint", would make smaller for a picture of that
    height.
    """
    if rule == "footprint" and analysis.visibility is not None:
        return by_footprint(analysis, height / analysis.visibility.height)
    return by_distance(analysis)


def device_of(row: DeviceRow) -> Device:
    return Device.model_validate(row.data)


def devices(db: Session) -> list[DeviceRow]:
    return list(db.scalars(select(DeviceRow).where(~DeviceRow.removed).order_by(DeviceRow.id)))


def recipe(values: dict[str, Any]) -> Recipe:
    return Recipe.model_validate(values)


def kept_trials(db: Session, job: Job) -> list[Trial]:
    """The trial book, newest first."""
    return list(
        db.scalars(
            select(Trial)
            .where(Trial.job_id == job.id, ~Trial.removed)
            .order_by(Trial.number.desc())
        )
    )


def open_tasks(db: Session, job: Job) -> list[Task]:
    """Tasks of a job that wait or run."""
    return list(
        db.scalars(
            select(Task)
            .where(Task.job_id == job.id, Task.state.in_(("queued", "running")))
            .order_by(Task.id)
        )
    )
