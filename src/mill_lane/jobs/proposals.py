"""What trims propose for a scene version: at once from what is known, or worked out behind."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session, defer

from mill_lane.core.cache import Cache
from mill_lane.core.errors import NotFoundError
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim import TRIMS
from mill_lane.core.trim.model import Proposal, Trim, parameters_of
from mill_lane.jobs.lookup import analysis_of, find_version
from mill_lane.store.models import Job, Task
from mill_lane.work import queue
from mill_lane.work.kinds.final import largest_picture
from mill_lane.work.kinds.propose import PROPOSE, Asked, Payload, Result

KEPT = 16
_read = Cache[Result](KEPT)


@dataclass(frozen=True)
class Proposals:
    """What one trim proposes.

    Attributes
    ----------
    trim : Trim
    parameters : BaseModel
        With which it was asked.
    found : list of Proposal
    ready : bool
        Whether it was asked at all; otherwise `found` is empty.
    task : Task or None
        That works it out, or was to.
    """

    trim: Trim
    parameters: BaseModel
    found: list[Proposal]
    ready: bool = True
    task: Task | None = None


def find_trim(name: str) -> Trim:
    """The trim of that name."""
    if name not in TRIMS:
        raise NotFoundError(f"trim called “{name}”")
    return TRIMS[name]


def propose(db: Session, job: Job, name: str, values: Mapping[str, Any] | None = None) -> Proposals:
    """What a trim proposes for the version in use.

    Parameters
    ----------
    db : Session
    job : Job
    name : str
        Of the trim.
    values : mapping, optional
        Parameters of the trim.  Without any the newest are taken with which it was asked, where
        asking takes a while.

    Raises
    ------
    NotFoundError, MillError
        For a trim that is not there, or parameters that are wrong.
    """
    return _Asking(db, job).about(find_trim(name), values)


def propose_all(db: Session, job: Job) -> list[Proposals]:
    """What every trim proposes for the version in use, asked as usual."""
    asking = _Asking(db, job)
    return [asking.about(trim) for trim in TRIMS]


class _Asking:
    """What asking trims takes, read once."""

    def __init__(self, db: Session, job: Job) -> None:
        self.version = find_version(db, job)
        self.analysis = analysis_of(db, self.version)
        self.height = largest_picture(db, job.id)
        self.db, self.job = db, job
        self._tasks: list[tuple[Task, list[Asked]]] | None = None

    def about(self, trim: Trim, values: Mapping[str, Any] | None = None) -> Proposals:
        given = dict(values or {})
        if trim.by_size:
            given.setdefault("height", self.height)
        parameters = parameters_of(trim, given)
        if not trim.opens_scene(parameters):
            found = trim.propose(_no_scene, self.analysis, parameters)
            return Proposals(trim, parameters, found)
        for task, every in self.tasks():
            for k, asked in enumerate(every):
                if asked.trim != trim.name:
                    continue
                known = parameters_of(trim, asked.parameters)
                if values and known != parameters:
                    continue
                if getattr(known, "height", self.height) != self.height:
                    continue  # for a picture of another size
                if task.state == "done":
                    return Proposals(trim, known, _result(task).found[k], task=task)
                return Proposals(trim, known, [], ready=False, task=task)
        return Proposals(trim, parameters, [], ready=False)

    def tasks(self) -> list[tuple[Task, list[Asked]]]:
        """What was asked of this version, the newest first."""
        if self._tasks is None:
            query = select(Task).where(Task.kind == PROPOSE.name, Task.job_id == self.job.id)
            rows = self.db.scalars(query.order_by(Task.id.desc()).options(defer(Task.result)))
            self._tasks = [
                (t, Payload.model_validate(t.payload).asked)
                for t in rows
                if t.payload.get("version") == self.version.id
                and t.payload.get("mark", "") in ("", self.version.analysis_mark)
            ]
        return self._tasks


def ask(db: Session, job: Job, name: str, values: Mapping[str, Any] | None = None) -> Task | None:
    """Have it worked out what a trim proposes, unless it is known or under way.

    Returns
    -------
    Task or None
        None where there is nothing to wait for.
    """
    known = propose(db, job, name, values)
    if known.ready or (known.task is not None and not known.task.over):
        return None if known.ready else known.task
    asked = Asked(trim=name, parameters=known.parameters.model_dump(mode="json"))
    version = find_version(db, job)
    return queue.put(
        db, PROPOSE, Payload(version=version.id, mark=version.analysis_mark, asked=[asked]), job.id
    )


def _result(task: Task) -> Result:
    """What a task found; read once."""
    # Another installation's task of that number was made at another moment.
    key = (task.id, task.created, task.finished)
    return _read.get(key, lambda: Result.model_validate(task.result))


def _no_scene() -> Scene:
    raise AssertionError("a trim looks into the scene without having said so")
