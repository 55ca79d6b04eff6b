"""The trim list: what could be done, what is staged, and applying it."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.trim import TRIMS
from mill_lane.core.trim.model import Choice, Proposal, Target, Trim, parameters_of
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.jobs.lookup import analysis_of, find_version, recipe_of
from mill_lane.store.home import Home
from mill_lane.store.models import Job, SceneVersion, Task, TrimEntry, now
from mill_lane.work import queue
from mill_lane.work.kinds.trim import TRIM, Payload


@dataclass(frozen=True)
class Proposals:
    """What one trim proposes, with what it was asked."""

    trim: Trim
    parameters: Any
    found: list[Proposal]


def propose(
    db: Session, home: Home, job: Job, trim: str, values: Mapping[str, Any] | None = None
) -> Proposals:
    """Ask a trim what it could do with the version in use.

    Parameters
    ----------
    db : Session
    home : Home
    job : Job
    trim : str
        Its name.
    values : mapping, optional
        Parameters of the trim; the height of the final picture is filled in where it has one.
    """
    if trim not in TRIMS:
        raise NotFoundError(f"trim called “{trim}”")
    found = TRIMS[trim]
    version = find_version(db, job)
    analysis = analysis_of(db, version)
    given = dict(values or {})
    if "height" in found.parameters_type.model_fields:
        given.setdefault("height", recipe_of(db, job, "final").height)
    parameters = parameters_of(found, given)
    path = home.files.path(version.file_hash)
    proposals = found.propose(lambda: open_scene(path), analysis, parameters)
    return Proposals(found, parameters, proposals)


def staged(db: Session, version: SceneVersion) -> list[TrimEntry]:
    """What is on the trim list of a version, in the order in which it was staged."""
    query = select(TrimEntry).where(TrimEntry.version_id == version.id).order_by(TrimEntry.id)
    return list(db.scalars(query))


def stage(db: Session, version: SceneVersion, proposals: Collection[Proposal]) -> None:
    """Put proposals on the trim list; what is there for the same target is replaced."""
    for p in proposals:
        values = {"parameters": p.parameters, "proposal": p.model_dump(mode="json")}
        row = insert(TrimEntry).values(
            version_id=version.id,
            trim=p.trim,
            target=p.target.key,
            name=p.target.name,
            created=now(),
            **values,
        )
        keys = ["version_id", "trim", "target"]
        db.execute(row.on_conflict_do_update(index_elements=keys, set_=values))


def unstage(db: Session, version: SceneVersion, trim: str, targets: Collection[str]) -> None:
    """Take targets off the trim list."""
    db.execute(
        delete(TrimEntry).where(
            TrimEntry.version_id == version.id,
            TrimEntry.trim == trim,
            TrimEntry.target.in_(list(targets)),
        )
    )


def choice_of(entry: TrimEntry) -> Choice:
    """What an entry of the trim list asks for."""
    kind, _, index = entry.target.partition(":")
    target = Target.model_validate({"kind": kind, "index": int(index or 0), "name": entry.name})
    return Choice(trim=entry.trim, target=target, parameters=entry.parameters)


def image_bytes_after(analysis: Analysis, entries: Collection[TrimEntry]) -> dict[int, int]:
    """What images will hold in memory once the list is applied, by index."""
    out: dict[int, int] = {}
    choices = [choice_of(e) for e in entries if e.trim in TRIMS]
    for trim in TRIMS:
        out |= trim.memory_after(analysis, [c for c in choices if c.trim == trim.name])
    return out


def apply_list(db: Session, job: Job) -> Task:
    """Queue a new scene version with everything that is staged; the old one stays.

    Raises
    ------
    MillError
        Where nothing is staged, or a trim of the job is going on.
    """
    version = find_version(db, job)
    entries = staged(db, version)
    if not entries:
        raise MillError("Nothing is staged.", "Stage at least one texture.")
    going = select(Task.id).where(
        Task.job_id == job.id, Task.kind == TRIM.name, Task.state.in_(("queued", "running"))
    )
    if db.scalars(going.limit(1)).first() is not None:
        raise MillError("A trim of this scene is running already.", "Wait until it is done.")
    choices = [choice_of(e) for e in entries]
    payload = Payload(version=version.id, name=version.file_name, choices=choices)
    return queue.put(db, TRIM, payload, job.id)


def trim_task(db: Session, job: Job) -> Task | None:
    """The newest trim of a job."""
    query = select(Task).where(Task.job_id == job.id, Task.kind == TRIM.name)
    return db.scalars(query.order_by(Task.id.desc()).limit(1)).first()
