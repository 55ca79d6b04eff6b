"""Finding runs of frames, and how far they are."""

from __future__ import annotations

import itertools
import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from sqlalchemy import case, func, select
from sqlalchemy.orm import Session

from mill_lane.core.cache import Cache
from mill_lane.core.errors import NotFoundError
from mill_lane.core.plan.night import TimeLeft, flickers, time_left
from mill_lane.store.models import Job, Render, RenderGroup, SceneVersion, Task
from mill_lane.work.runs import RunSettings, settings_of

KEPT_RUNS = 8
OPEN = ("queued", "running", "paused")


def going_on(db: Session, job: Job) -> RenderGroup | None:
    """The run of a job that is going on, if there is one."""
    for group in runs_of(db, job):
        settings = settings_of(group)
        going = settings is not None and settings.state in ("running", "stopping")
        if going and open_task(db, group) is not None:
            return group
    return None


def runs_of(db: Session, job: Job, most: int = 20) -> list[RenderGroup]:
    """Runs by a sheet, newest first."""
    query = select(RenderGroup).where(
        RenderGroup.job_id == job.id, RenderGroup.kind == "run", ~RenderGroup.removed
    )
    found = db.scalars(query.order_by(RenderGroup.id.desc()).limit(200))
    return [g for g in found if "sheet" in (g.settings or {})][:most]


def find_run(db: Session, number: int) -> tuple[RenderGroup, RunSettings]:
    """A run by a sheet.  Raises NotFoundError where there is none of that number."""
    group = db.get(RenderGroup, number)
    settings = settings_of(group)
    if group is None or settings is None:
        raise NotFoundError("run of that number")
    return group, settings


def open_task(db: Session, group: RenderGroup) -> Task | None:
    """The task of the frame whose turn it is."""
    settings = settings_of(group)
    if settings is not None and settings.scheduler:
        task = db.get(Task, settings.task) if settings.task is not None else None
        return task if task is not None and task.state in OPEN else None
    query = (
        select(Task)
        .join(Render, Render.task_id == Task.id)
        .where(Render.group_id == group.id, Task.state.in_(OPEN))
    )
    return db.scalars(query.order_by(Task.id).limit(1)).first()


class FrameRow(NamedTuple):
    """A frame of a run as it is shown; a tuple, since there may be thousands on a page.

    `seconds` are without loading the scene, which is done once.
    """

    id: int
    frame: int
    state: str
    seconds: float | None
    bright: float | None
    troubles: tuple[str, ...]
    picture: str
    thumbnail: str
    task: int | None
    kept: bool = False  # whether its state is, for more samples
    samples: int = 0  # at most, of its recipe


_rows = Cache[list[FrameRow]](KEPT_RUNS)


def frames_of(db: Session, group: RenderGroup) -> list[FrameRow]:
    """The frames of a run whose turn has come, by number."""
    of = func.json_extract
    query = (
        select(
            Render.id,
            Render.frame,
            Task.state,
            of(Render.measured, "$.whole_seconds")
            - func.coalesce(of(Render.measured, "$.setup_seconds"), 0.0),
            of(Render.measured, "$.mean_luminance"),
            of(Render.measured, "$.troubles"),
            Render.picture,
            of(Render.layers, "$.thumbnail.hash"),
            Render.task_id,
            of(Render.layers, "$.state.hash").is_not(None),
            of(Render.recipe, "$.samples"),
        )
        .outerjoin(Task, Task.id == Render.task_id)
        .where(Render.group_id == group.id, ~Render.removed)
        .order_by(Render.frame, Render.id)
    )
    return [
        FrameRow(
            row[0],
            row[1],
            row[2] or "",
            row[3],
            row[4],
            tuple(json.loads(row[5])) if row[5] else (),
            row[6] or "",
            row[7] or "",
            *row[8:],
        )
        for row in db.connection().execute(query)  # past the mapper, which takes longer than all
    ]


def newest_small(db: Session, version: SceneVersion) -> tuple[int, str] | None:
    """Number and small picture of the frame of a scene version that was rendered last."""
    small = func.json_extract(Render.layers, "$.thumbnail.hash")
    query = select(Render.frame, small).where(
        Render.version_id == version.id, Render.kind == "frame", small.is_not(None)
    )
    found = db.execute(query.order_by(Render.id.desc()).limit(1)).first()
    return (int(found[0]), str(found[1])) if found else None


def parts_told(db: Session, group: RenderGroup) -> tuple[float, float] | None:
    """How much light the parts of the scene added up to, and how far from the whole, relative;
    None for a run that was not rendered in parts.
    """
    of = func.json_extract
    light = of(Render.measured, "$.parts.light")
    query = select(light, of(Render.measured, "$.parts.difference")).where(
        Render.group_id == group.id, light.is_not(None)
    )
    found = db.execute(query.order_by(Render.id.desc()).limit(1)).first()
    return (float(found[0]), float(found[1])) if found else None


Stamp = tuple[object, ...]


def stamp_of(db: Session, group: RenderGroup) -> Stamp:
    """What changes when a frame of a run begins, ends, goes or is put back: cheap to ask for."""
    query = (
        select(
            func.count(),
            func.max(Render.id),
            func.count(Render.picture),
            func.sum(Render.removed),
            func.max(Task.finished),
            func.group_concat(case((Task.state.in_((*OPEN, "failed")), Task.state))),
        )
        .outerjoin(Task, Task.id == Render.task_id)
        .where(Render.group_id == group.id)
    )
    database = str(db.get_bind().engine.url)
    return (database, group.id, group.created, *db.execute(query).one())


def rows_of(db: Session, group: RenderGroup, every: Sequence[int], stamp: Stamp) -> list[FrameRow]:
    """The frames of a run with those marked that flicker; read anew only when something changed."""
    key = (stamp, tuple(every))
    return _rows.get(key, lambda: _flickering(frames_of(db, group), every))


@dataclass(frozen=True)
class Overview:
    """A run at a glance: frames begun by number, the left ones, the running one, time left.

    `stamp` is another whenever its rows are.
    """

    group: RenderGroup
    settings: RunSettings
    rows: list[FrameRow]
    task: Task | None
    left: TimeLeft | None
    stamp: Stamp = ()

    @property
    def done(self) -> int:
        """Frames that are done."""
        return sum(1 for row in self.rows if row.picture)

    @property
    def state(self) -> str:
        """What the run is doing; one without a task that should have one has stopped."""
        state = self.settings.state
        return "stopped" if state in ("running", "stopping") and self.task is None else state


def overview(db: Session, group: RenderGroup) -> Overview:
    """Look at a run."""
    settings = settings_of(group)
    assert settings is not None
    stamp = stamp_of(db, group)
    rows = rows_of(db, group, settings.every, stamp)
    task = open_task(db, group)
    taken = [row.seconds for row in rows if row.picture and row.seconds]
    first = settings.predicted
    known = (
        TimeLeft(first["seconds"], first["margin"], 0) if first.get("seconds") is not None else None
    )
    running = float((task.live or {}).get("seconds") or 0.0) if task is not None else 0.0
    count = len(settings.left) + (1 if task is not None else 0)
    return Overview(
        group,
        settings,
        rows,
        task,
        time_left(taken, count, running, known),
        stamp,
    )


def _flickering(rows: Sequence[FrameRow], every: Sequence[int]) -> list[FrameRow]:
    """The same rows, with those that flicker told: where the frames on both sides are done."""
    numbers = sorted(set(every))
    step = min((b - a for a, b in itertools.pairwise(numbers)), default=1)
    done = [row for row in rows if row.picture and row.bright is not None]
    found = {
        done[k].id
        for k in flickers([row.bright or 0.0 for row in done])
        if done[k].frame - done[k - 1].frame == done[k + 1].frame - done[k].frame == step
    }
    said = "it flickers: brighter or darker than the frame before and the one after"
    return [
        row._replace(troubles=(*row.troubles, said)) if row.id in found else row for row in rows
    ]
