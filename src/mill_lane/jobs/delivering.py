"""What is handed over of a run: films, sheets, and the report's figures."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.errors import NotFoundError
from mill_lane.core.formats.film_rates import check_rate
from mill_lane.jobs.lookup import find_task
from mill_lane.jobs.run_lookup import find_run
from mill_lane.store.home import Home
from mill_lane.store.models import Task
from mill_lane.work import queue
from mill_lane.work.kinds.deliver import DELIVER, Payload, What


def deliver(db: Session, run: int, what: What, rate: float) -> Task:
    """Have a film or a sheet made of the frames that are done.

    Raises
    ------
    MillError
        For a rate that no film has.
    """
    group, _ = find_run(db, run)
    check_rate(rate)
    return queue.put(db, DELIVER, Payload(run=group.id, what=what, rate=rate), group.job_id)


def delivered(db: Session, run: int) -> dict[str, Task]:
    """The newest task of each kind of thing that was made of a run."""
    out: dict[str, Task] = {}
    query = select(Task).where(Task.kind == DELIVER.name).order_by(Task.id)
    for task in db.scalars(query):
        if task.payload.get("run") == run:
            out[str(task.payload["what"])] = task
    return out


def delivered_file(db: Session, home: Home, number: int) -> tuple[Path, str]:
    """The file that a task made, and what it is called.  Raises NotFoundError where it is none."""
    task = find_task(db, number)
    made = (task.result or {}).get("made") if task.kind == DELIVER.name else None
    if not made:
        raise NotFoundError("film or sheet of that number")
    group, settings = find_run(db, int(task.payload["run"]))
    stem = Path(settings.sheet.name).name.split(".")[0] or "frames"
    return home.files.path(made["hash"]), f"{stem} run {group.number}.{task.payload['what']}"
