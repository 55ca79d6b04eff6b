"""What becomes of a task when its child has said how it ended."""

from __future__ import annotations

import shutil
from contextlib import suppress
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ValidationError

from mill_lane.store.files import Taken
from mill_lane.store.home import Home
from mill_lane.store.models import Task
from mill_lane.work import queue
from mill_lane.work.kinds.base import Context, Kind

AnyKind = Kind[Any, Any, Any]
TEMPORARY = "tmp"  # within the folder of a task: what libraries put down while it runs


def conclude(
    context: Context, kind: AnyKind, outcome: str, result: Any, taken: dict[str, Taken]
) -> None:
    """Write down how a task ended; the caller commits.

    Parameters
    ----------
    context : Context
    kind : Kind
    outcome : str
        "done", "cancelled", "waits" (it gave way), "paused", "failed", or "died" (its child is
        gone: it is begun again, three times at most without getting further).
    result : BaseModel or dict
        What came out; for a failure what is told of it.
    taken : dict
        The files that were put into the store.
    """
    db, task = context.db, context.task
    if outcome == "paused" and task.cancel:
        outcome = "cancelled"  # it was stopped while its child was still putting itself aside
    if outcome == "done":
        assert isinstance(result, BaseModel)
        payload = kind.payload_type.model_validate(task.payload)
        kept = kind.keep(context, payload, result, taken)
        text = "stopped by hand, kept" if kind.stopped_by_hand(result) else "done"
        queue.end(db, task, "done", share=1.0, text=text, result=kept, live={})
    elif outcome == "waits" and not task.cancel:
        task.state, task.text, task.attempts = "queued", "waits for what you asked for", 0
    elif outcome in ("cancelled", "waits") and _can_keep(context, kind):
        # Stopped before it had taken up what it had, or without an answer to being stopped.
        queue.again(task)
        task.cancel, task.attempts, task.wants = False, 0, {"finish": True}
        task.text = "stopping: what there is will be kept"
    elif outcome in ("cancelled", "waits"):
        queue.end(db, task, "cancelled", text="cancelled", live={})
        without(context, kind)
    elif outcome == "died" and task.attempts < queue.MOST_ATTEMPTS:
        queue.again(task)
    elif outcome == "paused" and task.wants.get("pause") is False:
        queue.again(task)  # it was told to go on meanwhile
    elif outcome == "paused":
        task.state, task.text = "paused", "paused"
    else:
        queue.end(db, task, "failed", text="failed", error=result, live={})
        without(context, kind)


def without(context: Context, kind: AnyKind) -> None:
    """Let the kind go on after a task that kept nothing; not where its payload cannot be read."""
    with suppress(ValidationError):
        kind.ended_without(context, kind.payload_type.model_validate(context.task.payload))


def _can_keep(context: Context, kind: AnyKind) -> bool:
    """Whether a stopped task left something to keep, and was not stopped twice."""
    return kind.left_something(context) and not context.task.wants.get("finish")


def sweep(home: Home, kind: AnyKind, task: Task) -> None:
    """Remove what a task leaves behind, once it is committed that it has ended.

    What a task needs to be taken up again stays.
    """
    folder = home.scratch / f"task-{task.id}"
    shutil.rmtree(folder / TEMPORARY, ignore_errors=True)
    if not needs_folder(kind, task):
        shutil.rmtree(folder, ignore_errors=True)
    if not needs_files(task):
        for path in files_of(home, kind, task):
            path.unlink(missing_ok=True)


def needs_files(task: Task) -> bool:
    """Whether a task still owns files: until it has ended, or where it can be run again."""
    return not task.over or (task.state == "failed" and bool(task.error.get("again")))


def needs_folder(kind: AnyKind, task: Task) -> bool:
    """Whether a task goes on from what lies in its folder."""
    if task.state == "running":
        return True
    return kind.resumable and needs_files(task)


def files_of(home: Home, kind: AnyKind, task: Task) -> list[Path]:
    """The files beside its folder that a task owns; none where its payload cannot be read."""
    try:
        return kind.files_of(home, kind.payload_type.model_validate(task.payload))
    except ValidationError:
        return []
