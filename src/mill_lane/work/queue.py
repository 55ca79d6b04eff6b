"""The queue of tasks in the database: put in, claimed by a lease, told about, ended."""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from mill_lane.store.models import Task, now

LEASE = 15.0  # seconds without a sign of life until a task counts as orphaned
MOST_ATTEMPTS = 3


def put(session: Session, kind: str, payload: dict[str, Any], job: int | None = None) -> Task:
    """Queue a task; it gets its number at once."""
    task = Task(kind=kind, payload=payload, job_id=job)
    session.add(task)
    session.flush()
    return task


def claim(session: Session) -> Task | None:
    """Take the oldest waiting task, or None; weighing lets everything else go first.

    One statement, so that two workers never take the same.
    """
    first = (Task.kind == "weigh", Task.id)
    oldest = (
        select(Task.id).where(Task.state == "queued").order_by(*first).limit(1).scalar_subquery()
    )
    row = session.execute(
        update(Task)
        .where(Task.id == oldest, Task.state == "queued")
        .values(
            state="running",
            started=now(),
            attempts=Task.attempts + 1,
            lease=time.time() + LEASE,
            text="starting",
        )
        .returning(Task.id)
    ).first()
    session.commit()
    return session.get(Task, row[0]) if row else None


def somebody_waits(session: Session) -> bool:
    """Whether anything but weighing is queued."""
    waiting = select(Task.id).where(Task.state == "queued", Task.kind != "weigh").limit(1)
    return session.execute(waiting).first() is not None


def beat(session: Session, task: int, **values: Any) -> tuple[bool, dict[str, Any]]:
    """Prolong the lease and note progress; returns whether somebody asked to cancel, and what else
    is wanted.
    """
    row = session.execute(
        update(Task)
        .where(Task.id == task, Task.state == "running")
        .values(lease=time.time() + LEASE, **values)
        .returning(Task.cancel, Task.wants)
    ).first()
    session.commit()
    return (bool(row[0]), dict(row[1] or {})) if row else (False, {})


def end(session: Session, task: Task, state: str, **values: Any) -> None:
    """Put a task into its last state."""
    task.state, task.finished = state, now()
    for name, value in values.items():
        setattr(task, name, value)
    session.flush()


def cancel(session: Session, task: Task) -> None:
    """Ask a running task to stop; a waiting one is over at once; a paused one is taken up to keep
    what it has.
    """
    if task.state == "queued":
        end(session, task, "cancelled", text="cancelled before it started")
    elif task.state == "paused":
        again(session, task)
        task.wants = {"finish": True}
    elif task.state == "running":
        task.cancel = True


def want(session: Session, task: Task, **wishes: Any) -> None:
    """Tell a render while it runs:

    pause=True, or priority=[x, y]; a paused one goes on with pause=False.
    """
    task.wants = {**task.wants, **wishes}
    if wishes.get("pause") is False and task.state == "paused":
        again(session, task)


def again(session: Session, task: Task) -> None:
    """Queue a paused, failed or cancelled task anew under its own number; its checkpoint, if any,
    is taken up.
    """
    if task.state in ("failed", "cancelled", "paused"):
        if task.state != "paused":
            task.share = 0.0
        task.state, task.text = "queued", "waiting"
        task.error, task.attempts, task.cancel = {}, 0, False
        task.wants = {k: v for k, v in task.wants.items() if k != "pause"}
        task.started = task.finished = None


def recover(session: Session, everything: bool = False) -> list[int]:
    """Put tasks whose worker died back into the queue; after three attempts they are marked as
    failed.

    With `everything`, all running tasks count: for a worker that starts and knows to be the only
    one.
    """
    found = []
    for task in session.scalars(select(Task).where(Task.state == "running")):
        if everything or task.lease < time.time():
            found.append(task.id)
            if task.cancel:
                end(session, task, "cancelled", text="cancelled")
            elif task.attempts >= MOST_ATTEMPTS:
                end(
                    session,
                    task,
                    "failed",
                    text="interrupted",
                    error={
                        "error": f"The process that did this was killed {task.attempts} times.",
                        "hint": "Run it again; if it stops at the same place, make the picture or the scene smaller.",
                        "kept": "Everything finished before is kept.",
                    },
                )
            else:
                task.state, task.text = "queued", "interrupted: goes on from where it was"
    session.commit()
    return found
