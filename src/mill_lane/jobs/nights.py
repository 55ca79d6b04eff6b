"""Runs of frames by a run sheet: begun, watched, stopped, gone on with, changed on the way."""

from __future__ import annotations

import itertools
import json
import shutil
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.plan.fitting import check_fits
from mill_lane.core.plan.frames import early, frames_in_words, parse_frames
from mill_lane.core.plan.less_memory import with_less
from mill_lane.core.plan.night import TimeLeft, flickers, from_rehearsal, time_left
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import read_recipe, stored
from mill_lane.core.weigh.ledger import draw_up, judge
from mill_lane.jobs.lookup import analysis_of, device_of, find_version, recipe_of
from mill_lane.jobs.renders import Shot, predicted
from mill_lane.store.models import Job, Render, RenderGroup, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.kinds.render import RENDER
from mill_lane.work.runs import RunSettings, advance, next_number, settings_of, store

FLOAT, HALF = 4, 2  # bytes
# A rehearsal: frames, how many times as small a side is and how wide at least, and samples.
REHEARSED, SMALLER, LEAST_WIDE, FEW_SAMPLES = 5, 4, 160, 8
OPEN = ("queued", "running", "paused")


def rehearse(db: Session, job: Job, sheet: RunSheet, folder: Path) -> RenderGroup:
    """Render the first, the middle and the last frame of a sheet, and two between, small and with
    few samples; nothing but pictures to look at is written.

    Raises
    ------
    MillError
        As `begin` does.
    """
    analysis = analysis_of(db, find_version(db, job))
    frames = early(sorted(sheet.listed(analysis.frames)))[:REHEARSED]
    small = sheet.model_copy(
        update={
            "frames": frames_in_words(frames),
            "order": "straight",
            "name": f"rehearsal/{Path(sheet.name).name}",
            "exr": "",
            "png": True,
            "jpeg": 0,
            "there": "overwrite",
        }
    )
    final = recipe_of(db, job, "final")
    width = max(LEAST_WIDE, final.width // SMALLER)
    height = max(1, round(final.height * width / final.width))
    samples = max(2, min(FEW_SAMPLES, final.samples))
    recipe = final.model_copy(
        update={
            "width": min(width, final.width),
            "height": min(height, final.height),
            "samples": samples,
            "min_samples": min(final.min_samples, samples),
            "noise": 0.0,
            "layers": (),
            "denoise": "no",
        }
    )
    pixels = final.width * final.height / (recipe.width * recipe.height)
    times = pixels * final.samples / recipe.samples
    return begin(db, job, small, folder, recipe=recipe, rehearsal={"times": times})


def begin(
    db: Session,
    job: Job,
    sheet: RunSheet,
    folder: Path,
    recipe: Recipe | None = None,
    rehearsal: dict[str, float] | None = None,
    warnings: Sequence[str] = (),
) -> RenderGroup:
    """Begin a run of frames with the final recipe, or another; its first frame is queued.

    Raises
    ------
    MillError
        Where the sheet is wrong, something is in the way, it would not fit, or another run of the
        job is going on.
    """
    version = find_version(db, job)
    analysis, device = analysis_of(db, version), device_of(job.device)
    recipe = recipe or recipe_of(db, job, "final")
    frames = sheet.listed(analysis.frames)
    check_name(sheet, folder)
    if not sheet.endings:
        raise MillError("Nothing would be written.", "Choose EXR, PNG or JPEG.")
    recipe = recipe.model_copy(update={"layers": recipe.kept_layers})
    less: list[str] = []
    while not judge(draw_up(analysis, recipe, device), device.free_bytes).fits:
        rung = with_less(recipe, sheet.rungs)
        if rung is None:
            break
        recipe = rung[0]
        less.append(f"from the beginning on: {rung[1].title}")
    check_fits(analysis, recipe, device, (recipe.width, recipe.height))
    going = going_on(db, job)
    if going is not None:
        raise MillError(
            f"Run {going.number} is going on.", "Wait for it, or stop it first.", "It goes on."
        )
    wanted = frames
    if sheet.there == "skip":
        standing = set(sheet.standing(folder, frames))
        wanted = [n for n in frames if n not in standing]
    elif sheet.there == "refuse":
        present = [p for n in frames for p in sheet.paths(folder, n) if p.exists()]
        if present:
            raise MillError(
                f"{present[0].name} and {len(present) - 1} more files are there already."
                if len(present) > 1
                else f"{present[0].name} is there already.",
                "Choose another name, leave what is there, or write over it.",
            )
    if not wanted:
        raise MillError("All of the frames are there already.", "Choose to write over them.")
    shot = Shot(recipe, (0, 0, recipe.width, recipe.height), wanted[0])
    group = RenderGroup(
        job_id=job.id, kind="run", number=next_number(RenderGroup, job.id, "run"), settings={}
    )
    db.add(group)
    db.flush()
    settings = RunSettings(
        sheet=sheet,
        folder=folder,
        every=wanted,
        left=wanted,
        version=version.id,
        recipe=stored(recipe),
        device=device.model_dump(mode="json"),
        predicted=predicted(db, job, version, shot, device),
        rehearsal=rehearsal,
        warnings=list(warnings),
        less=less,
    )
    store(group, settings)
    advance(db, group, RENDER)
    return group


def draft(db: Session, job: Job) -> RunSheet:
    """The run sheet of a job as it is being filled in; all of the scene's frames at first."""
    row = _draft(db, job)
    if row is not None:
        return RunSheet.model_validate(row.settings)
    first, last = analysis_of(db, find_version(db, job)).frames
    return RunSheet(frames=f"{first}-{last}" if last > first else str(first))


def keep_draft(db: Session, job: Job, sheet: RunSheet) -> None:
    """Keep the run sheet of a job as it is being filled in."""
    row = _draft(db, job)
    if row is None:
        row = RenderGroup(job_id=job.id, kind="sheet", number=1)
        db.add(row)
    row.settings = sheet.model_dump(mode="json")
    db.flush()


def _draft(db: Session, job: Job) -> RenderGroup | None:
    query = select(RenderGroup).where(RenderGroup.job_id == job.id, RenderGroup.kind == "sheet")
    return db.scalars(query).first()


def rehearsed(db: Session, job: Job, sheet: RunSheet) -> TimeLeft | None:
    """The time of a sheet's frames by the newest rehearsal of the scene version and the recipe."""
    version = find_version(db, job)
    final = recipe_of(db, job, "final")
    for group in _runs(db, job):
        settings = settings_of(group)
        if settings is None or settings.rehearsal is None or settings.version != version.id:
            continue
        small = read_recipe(settings.recipe)
        alike = {"width", "height", "samples", "min_samples", "noise", "layers", "denoise"}
        if small.model_dump(exclude=alike) != final.model_dump(exclude=alike):
            continue
        query = select(Render.frame, func.json_extract(Render.measured, "$.seconds")).where(
            Render.group_id == group.id, ~Render.removed, Render.picture.is_not(None)
        )
        seconds = {frame: took for frame, took in db.execute(query) if took}
        pixels = final.width * final.height / (small.width * small.height)
        frames = sheet.listed(analysis_of(db, version).frames)
        return from_rehearsal(seconds, pixels * final.samples / small.samples, frames)
    return None


def check_name(sheet: RunSheet, folder: Path) -> None:
    """Refuse names that lead out of the folder of frames.  Raises MillError."""
    path = sheet.pattern().path(1)
    inside = (folder / path).resolve().is_relative_to(folder.resolve())
    if path.is_absolute() or "\0" in sheet.name or not inside:
        raise MillError(
            f"“{sheet.name}” is not below the folder of frames.",
            "Name a place below it, or start with --frames FOLDER.",
        )


def going_on(db: Session, job: Job) -> RenderGroup | None:
    """The run of a job that is going on, if there is one."""
    for group in _runs(db, job):
        settings = settings_of(group)
        going = settings is not None and settings.state in ("running", "stopping")
        if going and open_task(db, group) is not None:
            return group
    return None


def _runs(db: Session, job: Job, most: int = 20) -> list[RenderGroup]:
    query = select(RenderGroup).where(
        RenderGroup.job_id == job.id, RenderGroup.kind == "run", ~RenderGroup.removed
    )
    found = db.scalars(query.order_by(RenderGroup.id.desc()).limit(200))
    return [g for g in found if "sheet" in (g.settings or {})][:most]


def nights(db: Session, job: Job) -> list[RenderGroup]:
    """Runs by a sheet, newest first."""
    return _runs(db, job)


def find_run(db: Session, number: int) -> tuple[RenderGroup, RunSettings]:
    """A run by a sheet.  Raises NotFoundError where there is none of that number."""
    group = db.get(RenderGroup, number)
    settings = settings_of(group)
    if group is None or settings is None:
        raise NotFoundError("run of that number")
    return group, settings


def open_task(db: Session, group: RenderGroup) -> Task | None:
    """The task of the frame whose turn it is."""
    query = (
        select(Task)
        .join(Render, Render.task_id == Task.id)
        .where(Render.group_id == group.id, Task.state.in_(OPEN))
    )
    return db.scalars(query.order_by(Task.id).limit(1)).first()


def stop(db: Session, number: int, now: bool) -> None:
    """Stop a run after the frame that is rendered, or at once: that frame then goes on from where
    it was.
    """
    group, settings = find_run(db, number)
    task = open_task(db, group)
    if settings.state == "done":
        raise MillError("The run is done.", "Copy it to render frames again.")
    waits = task is None or task.state == "queued"
    if now and task is not None and task.state == "running":
        queue.want(db, task, pause=True)
    if task is not None and task.state == "queued":
        _back(db, group, settings, task)
        settings = find_run(db, number)[1]
    state = "stopped" if now or waits else "stopping"
    store(group, settings.model_copy(update={"state": state, "why": ""}))


def _back(db: Session, group: RenderGroup, settings: RunSettings, task: Task) -> None:
    """Put the frame of a task that has not begun back to those that are left."""
    row = db.scalars(select(Render).where(Render.task_id == task.id)).one()
    queue.end(db, task, "cancelled", text="cancelled before it started")
    row.removed = True
    store(group, settings.model_copy(update={"left": [row.frame, *settings.left]}))


def go_on(db: Session, number: int) -> None:
    """Let a run go on that was stopped; frames that failed are tried again at the end."""
    group, settings = find_run(db, number)
    failed = [
        row
        for row in frames_of(db, group)
        if row.state in ("failed", "cancelled") and row.frame not in settings.left
    ]
    for row in failed:
        db.get_one(Render, row.id).removed = True
    left = [*settings.left, *dict.fromkeys(row.frame for row in failed)]
    store(group, settings.model_copy(update={"left": left, "state": "running", "why": ""}))
    task = open_task(db, group)
    if task is None:
        advance(db, group, RENDER)
    else:
        queue.want(db, task, pause=False)


def change(db: Session, number: int, text: str) -> None:
    """Replace the frames whose turn has not come, in the order as written.

    Raises
    ------
    MillError
        For frames that there are none of.
    """
    group, settings = find_run(db, number)
    analysis = analysis_of(db, db.get_one(SceneVersion, settings.version))
    wanted = parse_frames(text, analysis.frames) if text.strip() else []
    begun = {row.frame for row in frames_of(db, group)}
    left = [n for n in wanted if n not in begun]
    every = [*(n for n in settings.every if n in begun), *left]
    update: dict[str, Any] = {"left": left, "every": every}
    if settings.state == "done" and left:
        update["state"] = "running"
    store(group, settings.model_copy(update=update))
    if open_task(db, group) is None:
        advance(db, group, RENDER)


def render_again(db: Session, frame: int) -> None:
    """Put a frame that is done back to those that are left, to be rendered anew next."""
    row = db.get(Render, frame)
    group = db.get(RenderGroup, row.group_id) if row is not None and row.group_id else None
    settings = settings_of(group)
    if row is None or group is None or settings is None or row.removed:
        raise NotFoundError("frame of that number")
    row.removed = True
    left = [row.frame, *(n for n in settings.left if n != row.frame)]
    state = "running" if settings.state == "done" else settings.state
    store(group, settings.model_copy(update={"left": left, "state": state}))
    if open_task(db, group) is None:
        advance(db, group, RENDER)


@dataclass(frozen=True)
class FrameRow:
    """A frame of a run as it is shown."""

    id: int
    frame: int
    state: str
    seconds: float | None
    bright: float | None
    troubles: tuple[str, ...]
    picture: str
    thumbnail: str
    task: int | None


def frames_of(db: Session, group: RenderGroup) -> list[FrameRow]:
    """The frames of a run whose turn has come, by number."""
    of = func.json_extract
    query = (
        select(
            Render.id,
            Render.frame,
            Task.state,
            of(Render.measured, "$.whole_seconds"),
            of(Render.measured, "$.mean_luminance"),
            of(Render.measured, "$.troubles"),
            Render.picture,
            of(Render.layers, "$.thumbnail.hash"),
            Render.task_id,
        )
        .outerjoin(Task, Task.id == Render.task_id)
        .where(Render.group_id == group.id, ~Render.removed)
        .order_by(Render.frame, Render.id)
    )
    return [
        FrameRow(
            id=n,
            frame=frame,
            state=state or "",
            seconds=seconds,
            bright=bright,
            troubles=tuple(json.loads(said)) if said else (),
            picture=picture or "",
            thumbnail=thumbnail or "",
            task=task,
        )
        for n, frame, state, seconds, bright, said, picture, thumbnail, task in db.execute(query)
    ]


@dataclass(frozen=True)
class Overview:
    """A run at a glance: frames begun by number, the left ones, the running one, time left."""

    group: RenderGroup
    settings: RunSettings
    rows: list[FrameRow]
    task: Task | None
    left: TimeLeft | None

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
    rows = frames_of(db, group)
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
        _flickering(rows, settings.every),
        task,
        time_left(taken, count, running, known),
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
        replace(row, troubles=(*row.troubles, said)) if row.id in found else row for row in rows
    ]


def room_for(sheet: RunSheet, frames: int, width: int, height: int, channels: int) -> int:
    """Bytes that a run is predicted to write at most: its own files, and what is kept here.

    EXR is taken as not compressed at all; a PNG as three bytes a pixel, a JPEG as one.
    """
    pixels = width * height
    own = 0
    if sheet.exr:
        wide = channels if sheet.layers == "all" else 3
        own += pixels * wide * (HALF if sheet.exr == "half" else FLOAT)
    own += 3 * pixels * sheet.png + pixels * bool(sheet.jpeg)
    kept = pixels * (channels * FLOAT + 3)
    return frames * (own + kept)


def free_bytes(folder: Path) -> int | None:
    """Bytes that are free where frames are written; None where that cannot be told."""
    place = folder
    while not place.exists() and place != place.parent:
        place = place.parent
    try:
        return shutil.disk_usage(place).free
    except OSError:
        return None
