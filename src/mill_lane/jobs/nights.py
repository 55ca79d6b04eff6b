"""Runs of frames by a run sheet: begun, watched, stopped, gone on with, changed on the way."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.plan.fitting import check_way
from mill_lane.core.plan.frames import frames_in_words, parse_frames
from mill_lane.core.plan.less_memory import made_to_fit
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.plan.way import Way
from mill_lane.core.recipe import Recipe, framed
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.core.render.state import state_key
from mill_lane.jobs.lookup import analysis_of, device_of, find_version, own_cpu, recipe_of
from mill_lane.jobs.recipes import merge
from mill_lane.jobs.renders import Shot, predicted
from mill_lane.jobs.run_lookup import find_run, frames_of, going_on, open_task
from mill_lane.store.home import Home
from mill_lane.store.models import Job, Render, RenderGroup, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.kinds.render import RENDER, STATE
from mill_lane.work.kinds.spread import SPREAD
from mill_lane.work.put_aside import can_add, whole_key
from mill_lane.work.runs import (
    More,
    RunSettings,
    as_kept,
    go,
    known_settings,
    next_number,
    settings_of,
    store,
)


def begin(
    db: Session,
    job: Job,
    sheet: RunSheet,
    folder: Path,
    recipe: Recipe | None = None,
    rehearsal: dict[str, float] | None = None,
    warnings: Sequence[str] = (),
    search: tuple[Sequence[int], int] = ((), 0),
    scheduler: str = "",
) -> RenderGroup:
    """Begin a run of frames with the final recipe, or another; its first frame is queued.

    `search` has the frames among which a rehearsal looks for the heaviest, and how often;
    `scheduler` the address of the one that the server knows, for sheets that want other machines.

    Returns
    -------
    RenderGroup
        Of several cameras the first one's: each has a run of its own, which begins when the one
        before is done.

    Raises
    ------
    MillError
        Where the sheet is wrong, something is in the way, it would not fit, or another run of the
        job is going on.
    """
    analysis = analysis_of(db, find_version(db, job))
    usual = recipe or recipe_of(db, job, "final")
    if going := going_on(db, job):
        raise MillError(
            f"Run {going.number} is going on.", "Wait for it, or stop it first.", "It goes on."
        )
    begun = []
    for camera, own in sheet.by_camera(analysis.cameras, analysis.camera_for(usual.camera)):
        values = {"camera": camera}
        seen = framed(usual.model_copy(update=values), analysis.shape_of(camera))
        one = seen if sheet.cameras else usual
        group = _begin(db, job, own, folder, one, rehearsal, warnings, search, scheduler)
        begun += [group] if group is not None else []
    if not begun:
        raise MillError("All of the frames are there already.", "Choose to write over them.")
    for group in begun[1:]:
        store(group, known_settings(group).model_copy(update={"state": "waiting"}))
    go(db, begun[0], RENDER, SPREAD)
    return begun[0]


def _begin(
    db: Session,
    job: Job,
    sheet: RunSheet,
    folder: Path,
    recipe: Recipe,
    rehearsal: dict[str, float] | None,
    warnings: Sequence[str],
    search: tuple[Sequence[int], int],
    scheduler: str,
) -> RenderGroup | None:
    """The run of one camera, of which nothing is queued yet; None where its frames are there."""
    version = find_version(db, job)
    analysis = analysis_of(db, version)
    frames = sheet.listed(analysis.frames)
    sheet.check_below(folder)
    if not sheet.endings:
        raise MillError("Nothing would be written.", "Choose EXR, PNG or JPEG.")
    if sheet.machines == "others" and not scheduler:
        raise MillError(
            "There is no scheduler.", "Start Mill Lane with --scheduler ADDRESS, or render here."
        )
    way, taken = made_to_fit(way_for(db, job, sheet, recipe), sheet.rungs)
    check_way(way)
    recipe, device = way.recipe, way.device
    wanted = frames
    if sheet.there == "skip":
        standing = set(sheet.standing(folder, frames))
        wanted = [n for n in frames if n not in standing]
    elif sheet.there == "refuse":
        begun = sheet.begun(folder, frames)
        if begun:
            raise MillError(
                f"Files of {frames_in_words(begun)} are there already.",
                "Choose another name, leave what is there, or write over it.",
            )
    if not wanted:
        return None
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
        **as_kept(way),
        predicted=predicted(db, job, version, shot, device) | {"memory_bytes": way.ledger.total},
        rehearsal=rehearsal,
        warnings=list(warnings),
        search=list(search[0]),
        rounds=search[1],
        scheduler=scheduler if sheet.machines == "others" else "",
        less=[f"from the beginning on: {rung.title}" for rung in taken],
    )
    store(group, settings)
    return group


def way_for(db: Session, job: Job, sheet: RunSheet, recipe: Recipe | None = None) -> Way:
    """How a sheet's frames would be rendered, before anything is done for want of memory."""
    recipe = recipe or recipe_of(db, job, "final")
    return Way(
        analysis_of(db, find_version(db, job)),
        recipe.model_copy(update={"layers": recipe.kept_layers}),
        device_of(job.device),
        cpu=device_of(own_cpu(db)),
        far_m=sheet.far_m,
    )


def draft(db: Session, job: Job) -> RunSheet:
    """The run sheet of a job as it is being filled in; all of the scene's frames at first."""
    if job.run_sheet:
        return RunSheet.model_validate(job.run_sheet)
    first, last = analysis_of(db, find_version(db, job)).frames
    return RunSheet(frames=f"{first}-{last}" if last > first else str(first))


def keep_draft(db: Session, job: Job, sheet: RunSheet) -> None:
    """Keep the run sheet of a job as it is being filled in."""
    job.run_sheet = sheet.model_dump(mode="json")
    db.flush()


def stop(db: Session, number: int, now: bool) -> None:
    """Stop a run after the frame that is rendered, or at once: that frame then goes on from where
    it was.
    """
    group, settings = find_run(db, number)
    task = open_task(db, group)
    if settings.state == "done":
        raise MillError("The run is done.", "Copy it to render frames again.")
    waits = task is None or task.state == "queued"
    if task is not None and task.state == "running" and (now or settings.scheduler):
        queue.want(db, task, **({"pause": True} if now else {"finish": True}))
    if task is not None and task.state == "queued" and settings.scheduler:
        queue.end(db, task, "cancelled", text="cancelled before it started")
    elif task is not None and task.state == "queued":
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
        go(db, group, RENDER, SPREAD)
    else:
        queue.want(db, task, pause=False, finish=False)


def change(db: Session, number: int, text: str) -> None:
    """Replace the frames whose turn has not come, in the order as written.

    Raises
    ------
    MillError
        For frames that there are none of.
    """
    group, settings = find_run(db, number)
    if settings.scheduler and open_task(db, group) is not None:
        raise MillError(
            "Its frames are with other machines.", "Stop it first, then change what is left."
        )
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
        go(db, group, RENDER, SPREAD)


def more_samples(db: Session, home: Home, frame: int, samples: int) -> None:
    """Let a frame that is done go on from its kept state, to so many samples at most.

    Raises
    ------
    MillError
        Where its state was not kept, it has as many already, or nothing can be added to it.
    """
    row, group, settings = _frame_of(db, frame)
    recipe = read_recipe(row.recipe)
    if samples <= recipe.samples:
        raise MillError(
            f"Frame {row.frame} has had up to {recipe.samples} samples.", "Ask for more than that."
        )
    merge(recipe, {"samples": samples})
    why = not_to_be_added_to(home, row, settings)
    if why:
        raise MillError(
            f"Nothing can be added to frame {row.frame}: {why}.",
            "Render it again with more samples.",
            "The frame stays as it is.",
        )
    kept = row.layers[STATE]["hash"]
    more = More(samples=samples, state=kept, ended=state_key(home.files.path(kept)))
    settings = settings.model_copy(update={"more": settings.more | {row.frame: more}})
    _again(db, row, group, settings)


def not_to_be_added_to(home: Home, row: Render, settings: RunSettings) -> str:
    """Why a frame cannot get more samples in its run as it is now; empty where it can.

    Samples of two pictures are never mixed: all but their number has to be as it was.
    """
    kept = (row.layers or {}).get(STATE)
    if kept is None:
        return "its state was not kept; see the run sheet"
    state = home.files.path(kept["hash"])
    if not state.exists():
        return "its state is no longer there"
    shown = {"region": row.region, "frame": row.frame, "preview": row.preview}
    recipe = read_recipe(settings.recipe)
    wanted = whole_key(row.version.file_hash, recipe, shown, settings.means)
    try:
        if can_add(state_key(state), wanted):
            return ""
    except MillError:
        return "its state is damaged"
    changed = f" ({settings.less[-1]})" if settings.less else ""
    return f"the run has changed since{changed}, and more samples would be of another picture"


def _frame_of(db: Session, frame: int) -> tuple[Render, RenderGroup, RunSettings]:
    row = db.get(Render, frame)
    group = db.get(RenderGroup, row.group_id) if row is not None and row.group_id else None
    settings = settings_of(group)
    if row is None or group is None or settings is None or row.removed:
        raise NotFoundError("frame of that number")
    return row, group, settings


def render_again(db: Session, frame: int) -> None:
    """Put a frame that is done back to those that are left, to be rendered anew next."""
    _again(db, *_frame_of(db, frame))


def _again(db: Session, row: Render, group: RenderGroup, settings: RunSettings) -> None:
    row.removed = True
    left = [row.frame, *(n for n in settings.left if n != row.frame)]
    state = "running" if settings.state == "done" else settings.state
    store(group, settings.model_copy(update={"left": left, "state": state}))
    if open_task(db, group) is None:
        go(db, group, RENDER, SPREAD)
