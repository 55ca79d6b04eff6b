"""Finding things of a job, and reading what is stored of them."""

from __future__ import annotations

import json
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session, defer, joinedload, undefer

from mill_lane.core.cache import Cache
from mill_lane.core.devices.cpu import as_it_is_now
from mill_lane.core.devices.model import Device
from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store.models import (
    DeviceRow,
    Job,
    RecipeRow,
    Render,
    RenderGroup,
    SceneVersion,
    Task,
)

KEPT_ANALYSES = 32
MOST_FRAMES = 60  # single frames that are listed
OPEN_STATES = ("queued", "running", "paused")
_analyses = Cache[Analysis](KEPT_ANALYSES)


def find_job(db: Session, number: int) -> Job:
    """The job of that number, unless it was put away."""
    job = db.get(Job, number)
    if job is None or job.removed:
        raise NotFoundError("job of that number")
    return job


def find_version(db: Session, job: Job) -> SceneVersion:
    """The scene version in use.  Raises MillError while the scene is still being opened."""
    version = db.get(SceneVersion, job.version_id) if job.version_id else None
    if version is None:
        raise MillError(
            f"The scene of “{job.name}” is not open yet.",
            "Wait until it has been read, or open it again.",
        )
    return version


def find_render(db: Session, number: int, kind: str) -> Render:
    """The render of that number, if it is of that kind ("trial", "frame")."""
    row = db.get(Render, number)
    if row is None or row.kind != kind:
        raise NotFoundError(f"{kind} of that number")
    return row


def find_trial(db: Session, job: Job, number: int) -> Render:
    """A trial of a job by its number in the book."""
    row = db.scalars(select(Render).where(*_trials_of(job), Render.number == number)).first()
    if row is None:
        raise NotFoundError("trial of that number")
    return row


def find_device(db: Session, number: int) -> DeviceRow:
    """The device of that number, unless it was removed."""
    row = db.get(DeviceRow, number)
    if row is None or row.removed:
        raise NotFoundError("device of that number")
    return row


def find_task(db: Session, number: int) -> Task:
    """The task of that number."""
    row = db.get(Task, number)
    if row is None:
        raise NotFoundError("task of that number")
    return row


def analysis_of(db: Session, version: SceneVersion) -> Analysis:
    """What is known of a version, read once however often it is asked for."""

    def read() -> Analysis:
        stored: dict[str, Any] = db.scalars(
            select(SceneVersion.analysis).where(SceneVersion.id == version.id)
        ).one()
        return read_analysis(stored)

    return _analyses.get(version.analysis_mark, read)


def device_of(row: DeviceRow) -> Device:
    """The device that a row keeps; this computer as it is now."""
    device = Device.model_validate(row.data)
    return as_it_is_now(device) if row.found else device


def devices(db: Session) -> list[DeviceRow]:
    """All devices that can be chosen."""
    return list(db.scalars(select(DeviceRow).where(~DeviceRow.removed).order_by(DeviceRow.id)))


def own_cpu(db: Session) -> DeviceRow:
    """This computer's CPU, which is found at every start."""
    return db.scalars(select(DeviceRow).where(DeviceRow.found).order_by(DeviceRow.id)).first() or (
        _no_cpu()
    )


def _no_cpu() -> DeviceRow:
    raise MillError("This computer was not looked at yet.", "Start Mill Lane again.")


def chosen_recipe(db: Session, job: Job, role: str) -> RecipeRow:
    """The recipe of a job that is used as its "draft" or "final"."""
    row = db.scalars(
        select(RecipeRow).where(RecipeRow.job_id == job.id, RecipeRow.chosen == role)
    ).first()
    if row is None:
        raise NotFoundError(f"{role} recipe")
    return row


def recipe_of(db: Session, job: Job, role: str) -> Recipe:
    """The settings of a job's "draft" or "final" recipe."""
    return read_recipe(chosen_recipe(db, job, role).data)


# Trials that were rendered here; others are pictures from elsewhere.
MADE_HERE = func.json_extract(Render.device, "$.elsewhere").is_(None)


def is_elsewhere(trial: Render) -> bool:
    """Whether a trial of the book was made elsewhere: what is known of it was told."""
    return bool((trial.device or {}).get("elsewhere"))


@dataclass(frozen=True)
class TrialFigures:
    """What is compared of all trials: the crop, as shares of its picture, time and noise; and
    whether they were measured here, or told of a picture made elsewhere.
    """

    number: int
    crop: tuple[float, float, float, float]
    seconds: float | None
    noise: float | None
    here: bool = True


def trial_figures(db: Session, job: Job) -> list[TrialFigures]:
    """The figures of every trial of a job, newest first."""
    of = func.json_extract
    columns = (
        Render.number,
        Render.region,
        of(Render.recipe, "$.width"),
        of(Render.recipe, "$.height"),
        of(Render.measured, "$.seconds"),
        of(Render.measured, "$.noise"),
        MADE_HERE,
    )
    query = select(*columns).where(*_trials_of(job)).order_by(Render.number.desc())
    return [
        TrialFigures(n, (r[0] / w, r[1] / h, r[2] / w, r[3] / h), seconds, noise, bool(here))
        for n, r, w, h, seconds, noise, here in db.execute(query)
    ]


def _trials_of(job: Job) -> tuple[ColumnElement[bool], ...]:
    return Render.job_id == job.id, Render.kind == "trial", ~Render.removed


def trial_log(db: Session, job: Job, wanted: Collection[int]) -> list[Render]:
    """Trials of a job by number, newest first, each with its version's number and its task.

    Those that go on, or wait, are among them whether they are wanted or not.
    """
    goes_on = select(Task.id).where(Task.job_id == job.id, Task.state.in_(OPEN_STATES))
    query = (
        select(Render)
        .where(*_trials_of(job), Render.number.in_(wanted) | Render.task_id.in_(goes_on))
        .options(
            joinedload(Render.version).load_only(SceneVersion.number),
            joinedload(Render.task).defer(Task.payload).defer(Task.result).defer(Task.wants),
            defer(Render.predicted),
        )
        .order_by(Render.number.desc())
    )
    return list(db.scalars(query))


def newest_with_picture(db: Session, job: Job, numbers: Collection[int]) -> Render | None:
    """The newest of some trials that has a picture, and was rendered here."""
    query = select(Render).where(
        *_trials_of(job),
        Render.number.in_(numbers),
        Render.picture.is_not(None),
        MADE_HERE,
    )
    return db.scalars(query.order_by(Render.number.desc()).limit(1)).first()


def lights_by_trial(db: Session, version: SceneVersion) -> tuple[list[dict[str, Any]], int]:
    """What the newest trial that tells says of each light: rows of its profile, and its number.

    What was frozen or made elsewhere tells nothing; no rows where none does.
    """
    lights = func.json_extract(Render.time_profile, "$.lights")
    of_version = Render.kind == "trial", ~Render.removed, Render.version_id == version.id
    query = select(lights, Render.number).where(*of_version, lights.is_not(None))
    found = db.execute(query.order_by(Render.number.desc()).limit(1)).first()
    return (json.loads(found[0]), found[1]) if found is not None else ([], 0)


def with_time_profile(db: Session, render: Render) -> Render:
    """The same render with the part that is read only where it is shown."""
    query = select(Render).where(Render.id == render.id).options(undefer(Render.time_profile))
    return db.scalars(query.execution_options(populate_existing=True)).one()


def run_frames(db: Session, job: Job) -> list[Render]:
    """Single final frames of a job, newest first, each with its version and its task."""
    by_sheet = select(RenderGroup.id).where(
        RenderGroup.job_id == job.id,
        func.json_extract(RenderGroup.settings, "$.sheet").is_not(None),
    )
    alone = Render.group_id.is_(None) | Render.group_id.not_in(by_sheet)
    query = (
        select(Render)
        .where(Render.job_id == job.id, Render.kind == "frame", ~Render.removed, alone)
        .options(joinedload(Render.version), joinedload(Render.task))
        .order_by(Render.id.desc())
        .limit(MOST_FRAMES)
    )
    return list(db.scalars(query))


def latest_task(db: Session, kind: str, job: Job | None = None) -> Task | None:
    """The newest task of a kind, of a job or of none."""
    query = select(Task).where(Task.kind == kind)
    if job is not None:
        query = query.where(Task.job_id == job.id)
    return db.scalars(query.order_by(Task.id.desc()).limit(1)).first()
