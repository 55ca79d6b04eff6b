"""What becomes of a task when its child has said how it ended."""

from __future__ import annotations

import shutil
from typing import Any

from pydantic import BaseModel, ValidationError

from mill_lane.store.files import Taken
from mill_lane.store.home import Home
from mill_lane.store.models import Task
from mill_lane.work import queue
from mill_lane.work.kinds.base import Context, Kind

AnyKind = Kind[Any, Any, Any]


def conclude(
    context: Context, kind: AnyKind, outcome: str, result: Any, taken: dict[str, Taken]
) -> None:
    """Write down how a task ended; the caller commits.

    Parameters
    ----------
    context : Context
    kind : Kind
    outcome : str
        "done", "cancelled", "waits" (it gave way), "paused", or "failed".
    result : BaseModel or dict
        What came out; for a failure what is told of it.
    taken : dict
        The files that were put into the store.
    """
    db, task = context.db, context.task
    if outcome == "done":
        assert isinstance(result, BaseModel)
        payload = kind.payload_type.model_validate(task.payload)
        kept = kind.keep(context, payload, result, taken)
        text = "stopped by hand, kept" if kind.stopped_by_hand(result) else "done"
        queue.end(db, task, "done", share=1.0, text=text, result=kept, live={})
    elif outcome == "waits" and not task.cancel:
        task.state, task.text, task.attempts = "queued", "waits for what you asked for", 0
    elif outcome in ("cancelled", "waits"):
        queue.end(db, task, "cancelled", text="cancelled", live={})
    elif outcome == "paused":
        task.state, task.text = "paused", "paused"
    else:
        queue.end(db, task, "failed", text="failed", error=result, live={})


def sweep(home: Home, kind: AnyKind, task: Task) -> None:
    """Remove what a task leaves behind, once it is committed that it has ended.

    The folder of a task that can go on stays, unless it is done.
    """
    if task.state == "done" or not kind.resumable:
        shutil.rmtree(home.task_folder(task.id), ignore_errors=True)
    if task.over:
        try:
            payload = kind.payload_type.model_validate(task.payload)
        except ValidationError:
            return  # A payload that cannot be read names no files.
        for path in kind.files_of(home, payload):
            path.unlink(missing_ok=True)
