"""The trim list: what could be done, what is staged, and applying it."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.trim import TRIMS, foresee
from mill_lane.core.trim.groups import GROUPINGS, grouped
from mill_lane.core.trim.ladder import Ladder, held
from mill_lane.core.trim.model import Choice, Proposal, Target
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.jobs.lookup import analysis_of, find_version
from mill_lane.jobs.proposals import find_trim, propose
from mill_lane.store.models import Job, SceneVersion, Task, TrimEntry, now
from mill_lane.work import queue
from mill_lane.work.kinds.final import largest_picture
from mill_lane.work.kinds.trim import TRIM, Payload


def staged(db: Session, version: SceneVersion) -> list[TrimEntry]:
    """What is on the trim list of a version, in the order in which it was staged."""
    query = select(TrimEntry).where(TrimEntry.version_id == version.id).order_by(TrimEntry.id)
    return list(db.scalars(query))


def entry_of(db: Session, version: SceneVersion, trim: str, target: str) -> TrimEntry | None:
    """The entry of the list for a target of a trim."""
    return next((e for e in staged(db, version) if (e.trim, e.target) == (trim, target)), None)


def stage(db: Session, version: SceneVersion, proposals: Collection[Proposal]) -> None:
    """Put proposals on the trim list; what is there for the same target is replaced.

    What is to be left alone is not put on it.
    """
    height = largest_picture(db, version.job_id)
    for p in proposals:
        if p.left_alone:
            continue
        values = {
            "parameters": p.parameters,
            "proposal": p.model_dump(mode="json"),
            "made_for": height if find_trim(p.trim).by_size else 0,
        }
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


def stage_group(
    db: Session,
    job: Job,
    names: Collection[str],
    values: Mapping[str, Any],
    by: str,
    key: str,
    on: bool,
) -> None:
    """Put the proposals of a group on the trim list, or take all of them off it.

    Parameters
    ----------
    db : Session
    job : Job
    names : collection of str
        Trims whose proposals are grouped.
    values : mapping
        Parameters that they were asked with.
    by, key : str
        The grouping, of `core.trim.groups`, and the group.
    on : bool

    Raises
    ------
    NotFoundError
        Where there is no such group.
    """
    if by not in GROUPINGS:
        raise NotFoundError(f"way to put proposals together called “{by}”")
    version = find_version(db, job)
    found = [p for name in names for p in propose(db, job, name, values).found]
    members = grouped(found, by, analysis_of(db, version)).get(key, [])
    if not members:
        raise NotFoundError("group of that name")
    if on:
        stage(db, version, members)
    for name in names if not on else ():
        unstage(db, version, name, [p.target.key for p in members if p.trim == name])


def restage(db: Session, entry: TrimEntry, values: Mapping[str, Any]) -> None:
    """Change the parameters of an entry of the trim list.

    Raises
    ------
    MillError
        Where they are wrong; the entry stays as it was.
    """
    choice = choice_of(entry)
    trim = find_trim(entry.trim)
    wanted = choice.model_copy(update={"parameters": {**entry.parameters, **values}})
    entry.parameters = trim.checked(wanted).model_dump(mode="json")
    db.flush()


def unstage(db: Session, version: SceneVersion, trim: str, targets: Collection[str]) -> None:
    """Take targets off the trim list."""
    db.execute(
        delete(TrimEntry).where(
            TrimEntry.version_id == version.id,
            TrimEntry.trim == trim,
            TrimEntry.target.in_(list(targets)),
        )
    )


def staged_choices(db: Session, version: SceneVersion) -> list[Choice]:
    """Everything on the trim list, as choices."""
    return [choice_of(e) for e in staged(db, version)]


def choice_of(entry: TrimEntry) -> Choice:
    """What an entry of the trim list asks for."""
    kind, _, index = entry.target.partition(":")
    target = Target.model_validate({"kind": kind, "index": int(index or 0), "name": entry.name})
    return Choice(trim=entry.trim, target=target, parameters=entry.parameters)


def choices_for(
    db: Session, job: Job, version: SceneVersion, trim: str, target: str
) -> list[Choice]:
    """The choice for a target of a trim, as it is staged, or else as it is proposed; where it is
    one of several copies, those of all of them.

    Raises
    ------
    NotFoundError
        Where it is neither.
    """
    analysis = analysis_of(db, version)
    listed = [c for c in staged_choices(db, version) if c.trim == trim]
    offered = [p.choice for p in propose(db, job, trim).found if not p.left_alone]
    for found in (listed, offered):
        for members in grouped(found, "copies", analysis).values():
            if any(c.target.key == target for c in members):
                return members
    raise NotFoundError("proposal for that target")


def foreseen(analysis: Analysis, entries: Collection[TrimEntry]) -> Analysis:
    """What weighing is predicted to find once the list is applied."""
    return foresee(analysis, [choice_of(e) for e in entries if e.trim in TRIMS])


def saved_by(analysis: Analysis, entry: TrimEntry) -> int:
    """Bytes that an entry of the list saves by itself, as predicted."""
    return held(analysis) - held(foreseen(analysis, [entry]))


def stage_down(db: Session, version: SceneVersion, found: Ladder) -> int:
    """Stage the rungs of a ladder that bring it under the capacity; returns how many.

    Raises
    ------
    MillError
        Where none are needed, or all are not enough.
    """
    if not found.down_to:
        why = "It fits already." if found.down_to == 0 else "All proposals together are not enough."
        raise MillError(why, "Stage what you choose yourself.")
    for rung in found.rungs[: found.down_to]:
        stage(db, version, rung.proposals)
    return found.down_to


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
        raise MillError("Nothing is staged.", "Stage at least one proposal.")
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
