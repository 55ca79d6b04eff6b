"""Runs of frames: one frame queued after another, each in the transaction that ends the last.

The settings of a run's group are a `RunSettings`; a frame is a row of renders from when its turn
comes.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel
from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from mill_lane.core.devices.model import Device
from mill_lane.core.plan.less_memory import with_less
from mill_lane.core.plan.night import BESIDE, beside_heaviest, troubles
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.plan.way import Means, Way
from mill_lane.core.recipe_versions import read_recipe, stored
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store.models import Render, RenderGroup, SceneVersion
from mill_lane.work import queue
from mill_lane.work.kinds.needs import own_cpu
from mill_lane.work.queue import Declared

MOST_TRIES = 3  # more, of a frame that is ended by something else than its scene


class RunSettings(BaseModel):
    """What a run is, and how far it is.

    Attributes
    ----------
    sheet : RunSheet
    folder : Path
        Of frames.
    every, left : list of int
        All its frames in their order, and those whose turn has not come.
    state : str
        "waiting" begins when the run before it is done, "stopping" ends after the running frame.
    why : str
        Why it stopped by itself.
    version : int
        The scene's.
    recipe, device, predicted : dict
        As renders keep them.
    rehearsal : dict or None
        Of a rehearsal: how many times as many pixels and samples the final frames have.
    warnings : list of str
        What was told before it began, and taken as read.
    less : list of str
        Rungs that were taken for want of memory, in words.
    means : Means
        What they changed beside recipe and device.
    more : dict
        Frames that go on from where they ended, by number.
    tries : dict
        How often frames were tried that something else than the scene ended, by number.
    scheduler : str
        The address of the scheduler whose workers render it; empty for this computer.
    task : int or None
        The task that shares its frames out, while there is one.
    search : list of int
        The frames of the range, for a rehearsal that is still to look for the heaviest.
    rounds : int
        How often it still looks beside the heaviest so far.
    """

    sheet: RunSheet
    folder: Path
    every: list[int]
    left: list[int]
    state: Literal["waiting", "running", "stopping", "stopped", "done"] = "running"
    why: str = ""
    version: int
    recipe: dict[str, Any]
    device: dict[str, Any]
    predicted: dict[str, Any] = {}
    rehearsal: dict[str, float] | None = None
    warnings: list[str] = []
    less: list[str] = []
    means: Means = Means()
    more: dict[int, More] = {}
    tries: dict[int, int] = {}
    scheduler: str = ""
    task: int | None = None
    search: list[int] = []
    rounds: int = 0


class RenderPayload(BaseModel):
    """What the task of a frame is put into the queue with: the render; a state that it goes on
    from, by the hash of its file, and the key that this was saved under.
    """

    render: int
    state: str | None = None
    ended: str = ""


class SpreadPayload(BaseModel):
    """What the task that shares frames out is put into the queue with: the run."""

    run: int


class More(BaseModel):
    """More samples for a frame that has ended: as many at most, from its state."""

    samples: int
    state: str
    ended: str


def settings_of(group: RenderGroup | None) -> RunSettings | None:
    """A run's settings; None for a group that is no run by a sheet."""
    if group is None or "sheet" not in (group.settings or {}):
        return None
    return RunSettings.model_validate(group.settings)


def known_settings(group: RenderGroup) -> RunSettings:
    """The settings of a group that is a run by a sheet."""
    settings = settings_of(group)
    assert settings is not None
    return settings


def store(group: RenderGroup, settings: RunSettings) -> None:
    """Keep a run's settings."""
    group.settings = settings.model_dump(mode="json")


def way_of(db: Session, settings: RunSettings) -> Way:
    """How the frames of a run get rendered, and what that holds."""
    version = db.get_one(SceneVersion, settings.version)
    return Way(
        read_analysis(version.analysis),
        read_recipe(settings.recipe),
        Device.model_validate(settings.device),
        settings.means,
        own_cpu(db),
        settings.sheet.far_m,
    )


def as_kept(way: Way) -> dict[str, Any]:
    """What a run's settings keep of a way."""
    return {
        "recipe": stored(way.recipe),
        "device": way.device.model_dump(mode="json"),
        "means": way.means,
    }


def less(db: Session, settings: RunSettings, frame: int) -> dict[str, Any]:
    """What the settings of a run are changed by when memory failed: nothing where no rung is left
    that its sheet allows.
    """
    found = with_less(way_of(db, settings), settings.sheet.rungs, failed=True)
    if found is None:
        return {}
    way, taken = found
    return {
        **as_kept(way),
        "less": [*settings.less, f"from frame {frame} on: {taken.title}"],
    }


def next_number(table: type[Render | RenderGroup], job: int, kind: str) -> ColumnElement[int]:
    """The next number of a kind within a job, given by the database while the row is written."""
    last = select(func.coalesce(func.max(table.number), 0)).where(
        table.job_id == job, table.kind == kind
    )
    return last.scalar_subquery() + 1


def advance(db: Session, group: RenderGroup, kind: Declared) -> Render | None:
    """Queue the next frame of a run, if it is to go on and one is left."""
    settings = settings_of(group)
    if settings is None or settings.scheduler:
        return None
    if settings.state == "stopping":
        store(group, settings.model_copy(update={"state": "stopped"}))
        return None
    if settings.state != "running":
        return None
    if not settings.left and settings.rounds:
        settings = _search_on(db, group, settings)
    if not settings.left:
        store(group, settings.model_copy(update={"state": "done"}))
        follower = next_in_line(db, group)
        if follower is not None:
            advance(db, follower, kind)
        return None
    frame, *left = settings.left
    further = settings.more.get(frame)
    store(group, settings.model_copy(update={"left": left}))
    payload = {}
    if further is not None:
        recipe = settings.recipe | {"samples": further.samples}
        settings = settings.model_copy(update={"recipe": recipe})
        payload = {"state": further.state, "ended": further.ended}
    row = add_frame(db, group, settings, frame)
    row.task_id = queue.put(db, kind, RenderPayload(render=row.id, **payload), group.job_id).id
    db.flush()
    return row


def next_in_line(db: Session, group: RenderGroup) -> RenderGroup | None:
    """The run that waited for this one, going on from now; None where none did."""
    later = select(RenderGroup).where(
        RenderGroup.job_id == group.job_id,
        RenderGroup.kind == "run",
        RenderGroup.id > group.id,
        ~RenderGroup.removed,
    )
    for row in db.scalars(later.order_by(RenderGroup.id)):
        settings = settings_of(row)
        if settings is not None and settings.state == "waiting":
            store(row, settings.model_copy(update={"state": "running"}))
            return row
    return None


def go(db: Session, group: RenderGroup, kind: Declared, spread: Declared) -> None:
    """Have a run go on: its next frame on this computer, or all that are left on others."""
    settings = known_settings(group)
    if not settings.scheduler:
        advance(db, group, kind)
    elif settings.left and settings.state == "running":
        task = queue.put(db, spread, SpreadPayload(run=group.id), group.job_id)
        store(group, settings.model_copy(update={"task": task.id}))


def add_frame(db: Session, group: RenderGroup, settings: RunSettings, frame: int) -> Render:
    """The row of a frame whose turn has come."""
    recipe = settings.recipe
    row = Render(
        job_id=group.job_id,
        kind="frame",
        number=next_number(Render, group.job_id, "frame"),
        version_id=settings.version,
        group_id=group.id,
        recipe=recipe,
        region=[0, 0, recipe["width"], recipe["height"]],
        frame=frame,
        device=settings.device,
        predicted=settings.predicted,
    )
    db.add(row)
    db.flush()
    return row


def _search_on(db: Session, group: RenderGroup, settings: RunSettings) -> RunSettings:
    """A rehearsal with the frames beside the heaviest so far that were not rendered."""
    query = select(Render.frame, func.json_extract(Render.measured, "$.seconds")).where(
        Render.group_id == group.id, ~Render.removed, Render.picture.is_not(None)
    )
    seconds = {frame: took for frame, took in db.execute(query) if took}
    more = [n for n in beside_heaviest(seconds, settings.search) if n not in settings.every]
    found = {"left": more, "every": [*settings.every, *more], "rounds": settings.rounds - 1}
    settings = settings.model_copy(update=found)
    store(group, settings)
    return settings


def frame_done(db: Session, row: Render, kind: Declared, stopped: bool = False) -> None:
    """Look at a frame that is done, and let its run go on; one that was stopped stops it."""
    group = db.get(RenderGroup, row.group_id) if row.group_id else None
    settings = settings_of(group)
    if group is None or settings is None:
        return
    if stopped:
        # What there is of it stays among what was removed; the frame is rendered when it goes on.
        row.removed = True
        back = {"state": "stopped", "left": [row.frame, *settings.left]}
        store(group, settings.model_copy(update=back))
        return
    if row.frame in settings.more:
        more = {frame: wanted for frame, wanted in settings.more.items() if frame != row.frame}
        settings = settings.model_copy(update={"more": more})
        store(group, settings)
    said = troubles(row.measured, _beside(db, row))
    if said:
        row.measured = row.measured | {"troubles": said}
        if settings.sheet.trouble == "stop" and settings.state == "running":
            why = f"frame {row.frame}: {said[0]}"
            store(group, settings.model_copy(update={"state": "stopped", "why": why}))
    advance(db, group, kind)


def frame_lost(
    db: Session,
    row: Render,
    kind: Declared,
    why: str,
    for_memory: bool = False,
    again: bool = False,
) -> None:
    """Let a run go on after a frame that failed: for want of memory with the next rung that its
    sheet allows, else with the next frame; or stop with it where the sheet wants that.

    Where that was no fault of the scene (`again`) the frame is tried again after all others.
    """
    group = db.get(RenderGroup, row.group_id) if row.group_id else None
    settings = settings_of(group)
    if group is None or settings is None:
        return
    changed = less(db, settings, row.frame) if for_memory else {}
    if changed:
        row.removed = True  # it is rendered anew, with the others that are left
        changed["left"] = [row.frame, *settings.left]
        store(group, settings.model_copy(update=changed))
        advance(db, group, kind)
        return
    tried = settings.tries.get(row.frame, 0)
    if again and tried < MOST_TRIES and settings.sheet.trouble != "stop":
        row.removed = True
        later = {
            "left": [*settings.left, row.frame],
            "tries": settings.tries | {row.frame: tried + 1},
        }
        store(group, settings.model_copy(update=later))
    elif not why or settings.sheet.trouble == "stop":
        said = f"frame {row.frame}: {why}" if why else ""
        store(group, settings.model_copy(update={"state": "stopped", "why": said}))
    advance(db, group, kind)


def _beside(db: Session, row: Render) -> list[dict[str, Any]]:
    """What was measured of the nearest frames that are done."""
    query = (
        select(Render.measured)
        .where(Render.group_id == row.group_id, Render.id != row.id, Render.picture.is_not(None))
        .order_by(func.abs(Render.frame - row.frame), Render.id.desc())
        .limit(BESIDE)
    )
    return list(db.scalars(query))
