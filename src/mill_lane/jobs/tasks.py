"""Tasks as the artist sees them: stopped, paused, told where to look first, run again."""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.jobs.lookup import find_task
from mill_lane.store.models import Job, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.ending import needs_files
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.open import OPEN
from mill_lane.work.kinds.prepare import PREPARE
from mill_lane.work.kinds.weigh import WEIGH

OPEN_STATES = ("queued", "running")


def cancel(db: Session, number: int) -> None:
    """Stop a task; a render with at least one whole pass is kept as it is."""
    queue.cancel(db, find_task(db, number))


def want(db: Session, number: int, **wishes: Any) -> None:
    """Pause a task, let it go on, or move the point that is refined first."""
    queue.want(db, find_task(db, number), **wishes)


def retry(db: Session, number: int) -> None:
    """Run a failed or cancelled task again, from what it left.

    Raises
    ------
    MillError
        Where the file that it would read is no longer kept.
    """
    task = find_task(db, number)
    sent = task.kind == OPEN.name and task.payload.get("uploaded")
    if sent and task.over and not needs_files(task):
        raise MillError(
            "The file of this scene is no longer kept here.", "Send it again on the first page."
        )
    queue.retry(db, task)


def waiting(db: Session) -> list[Task]:
    """Tasks that wait or run, the oldest first."""
    query = select(Task).where(Task.state.in_(OPEN_STATES)).order_by(Task.id)
    return list(db.scalars(query))


def in_line(db: Session) -> list[Task]:
    """Tasks that run, then those that wait, about in the order in which they will be taken up.

    What waits for something else, first looks for one, may come later than it stands here.
    """
    jobs = {row.id: row.looked_at for row in db.execute(select(Job.id, Job.looked_at))}
    ranks = {k.name: (k.gives_way, k.priority) for k in KINDS}

    def turn(task: Task) -> tuple[Any, ...]:
        behind, priority = ranks.get(task.kind, (False, 0))
        looked_at = jobs.get(task.job_id or 0, 0.0) if behind else 0.0
        first = max(task.turn, looked_at)
        return task.state != "running", behind, -first, priority, task.id

    return sorted(waiting(db), key=turn)


def put_first(db: Session, number: int) -> None:
    """Let a waiting task go before all others.

    Raises
    ------
    MillError
        For one that does not wait.
    """
    task = find_task(db, number)
    if task.state != "queued":
        raise MillError("It does not wait any more.", "Look again.")
    queue.put_first(db, task)


def news_of_look(db: Session, number: int) -> bool:
    """Whether another job was looked at last, or none."""
    newest = select(Job.id).where(Job.looked_at > 0).order_by(Job.looked_at.desc()).limit(1)
    return db.execute(newest).scalar() != number


def note_look(db: Session, number: int) -> None:
    """Note that a job is being looked at now."""
    db.execute(update(Job).where(Job.id == number).values(looked_at=time.time()))


def preparing(db: Session) -> Task | None:
    """The newest compilation of the renderer."""
    query = select(Task).where(Task.kind == PREPARE.name).order_by(Task.id.desc()).limit(1)
    return db.scalars(query).first()


def weighing(db: Session, version: SceneVersion) -> Task | None:
    """The newest full weighing of a job, if it is that of the version."""
    query = select(Task).where(Task.job_id == version.job_id, Task.kind == WEIGH.name)
    task = db.scalars(query.order_by(Task.id.desc()).limit(1)).first()
    mine = task is not None and task.payload.get("version") == version.id
    return task if mine else None
