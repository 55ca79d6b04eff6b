"""The look that runs: what it is to look at, and what is on its screen made a trial."""

from __future__ import annotations

import time
from dataclasses import dataclass

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.core.plan.fitting import check_fits
from mill_lane.core.render.live import choices
from mill_lane.jobs.exposed import within
from mill_lane.jobs.lookup import analysis_of, device_of, find_version, own_cpu
from mill_lane.jobs.renders import Wish, shot_of
from mill_lane.jobs.sessions import load_session, read_session
from mill_lane.store.home import Home
from mill_lane.store.models import Job, Render, Task
from mill_lane.work import queue
from mill_lane.work.kinds.live_look import LIVE_LOOK, Payload
from mill_lane.work.kinds.needs import sky_file
from mill_lane.work.live_files import LiveFiles
from mill_lane.work.live_files import Wish as LiveWish

SAMPLES, CLEAN = 128, 0.99  # a pixel, and the share of clean ones, at which a look has seen enough


@dataclass(frozen=True)
class Shown:
    """How it is shown, and whether it goes on.

    Attributes
    ----------
    layer : str
        The name of a picture of the film, or that of diffuse light alone.
    clean : bool
        Denoised quickly on the way.
    place : tuple or None
        Refined first, in shares of the frame.
    paused : bool
    stops : float
        Brighter, for looking only.
    """

    layer: str = "beauty"
    clean: bool = False
    place: tuple[float, float] | None = None
    paused: bool = False
    stops: float = 0.0


def layers() -> list[tuple[str, str]]:
    """What a look can show, with titles, the picture first."""
    return [(d.name, d.title) for d in choices().values()]


def files_of(home: Home, job: int) -> LiveFiles:
    """Where the look of a job lies."""
    return LiveFiles(home.looks, job)


def look(db: Session, home: Home, job: Job, wish: Wish, shown: Shown) -> int:
    """Want something looked at from now on; returns the number of the wish.

    What is wanted elsewhere on this computer stops: there is one look at a time.

    Raises
    ------
    MillError
        Where the recipe, the crop, the frame or the layer is wrong, or it would not fit.
    """
    version = find_version(db, job)
    _, shot = shot_of(db, job, wish)
    if shown.layer not in choices():
        raise MillError(f"A look has no picture “{shown.layer}”.", "Choose one of the list.")
    x0, y0, x1, y1 = shot.region
    check_fits(analysis_of(db, version), shot.recipe, device_of(own_cpu(db)), (x1 - x0, y1 - y0))
    files = files_of(home, job.id)
    wanted = LiveWish(
        number=time.time_ns(),
        file_hash=version.file_hash,
        recipe=shot.recipe,
        crop=wish.crop,
        frame=shot.frame,
        preview=shot.preview,
        sky=sky_file(db, home, shot.recipe),
        layer=shown.layer,
        clean=shown.clean,
        place=shown.place,
        paused=shown.paused,
        stops=within(shown.stops),
        samples=SAMPLES,
        clean_share=CLEAN,
    )
    files.look()
    files.ask(wanted)
    if not wanted.paused:
        _set_going(db, job)
    return wanted.number


def _set_going(db: Session, job: Job) -> None:
    """Have a task look, unless one does."""
    others = select(Task).where(Task.kind == LIVE_LOOK.name)
    going = False
    for task in db.scalars(others.where(Task.state.in_(("queued", "running")))).all():
        if task.job_id == job.id and not task.cancel:
            going = True
        else:
            queue.cancel(db, task)
    if not going:
        over = Task.state.in_(("done", "cancelled"))
        db.execute(delete(Task).where(Task.kind == LIVE_LOOK.name, over))
        queue.put(db, LIVE_LOOK, Payload(job=job.id), job.id)


def ask_to_freeze(db: Session, home: Home, job: Job) -> int:
    """Have what is on the screen saved; returns the number of what will lie there.

    Raises
    ------
    MillError
        Where nothing is looked at.
    """
    files = files_of(home, job.id)
    wish = files.wanted()
    if wish is None or wish.file_hash != find_version(db, job).file_hash:
        raise MillError("Nothing is being looked at.", "Let the look run first.")
    number = time.time_ns()
    files.forget_frozen()
    files.look()
    files.ask(wish.model_copy(update={"number": number, "freeze": number}))
    _set_going(db, job)
    return number


def freeze(db: Session, home: Home, job: Job, number: int, note: str) -> Render:
    """Make a trial of what was saved: it has the samples that it has, and can go on.

    Raises
    ------
    MillError
        Where nothing was saved.
    """
    path = files_of(home, job.id).frozen(number)
    if not path.exists():
        raise MillError(
            "There was nothing to freeze yet.",
            "Wait until every pixel has a sample, then freeze it again.",
            "The look goes on.",
        )
    trial = load_session(db, home, job, path, read_session(path, "look.session"))
    trial.note = note
    task = db.get_one(Task, trial.task_id)
    queue.cancel(db, task)  # taken up to keep what it has
    return trial
