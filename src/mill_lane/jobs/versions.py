"""Scene versions: which is in use, read otherwise, written in other formats."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.formats.catalogue import FORMATS
from mill_lane.core.formats.units import unit_of
from mill_lane.core.trim.model import Change
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.jobs import weighing
from mill_lane.jobs.lookup import analysis_of, find_version
from mill_lane.store.models import Job, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.kinds import export, reading, variant
from mill_lane.work.kinds.export import CHANGED, EXPORT
from mill_lane.work.kinds.reading import READING, Axis, Unit
from mill_lane.work.kinds.variant import VARIANT


def versions_of(db: Session, job: Job) -> list[SceneVersion]:
    """All versions of a job's scene with their files; what is known of them is not read."""
    query = (
        select(SceneVersion)
        .where(SceneVersion.job_id == job.id)
        .options(joinedload(SceneVersion.file))
        .order_by(SceneVersion.number)
    )
    return list(db.scalars(query))


def numbered(db: Session, job: Job, number: int | None = None) -> SceneVersion:
    """The version of a number, or the one in use."""
    if number is None:
        return find_version(db, job)
    query = select(SceneVersion).where(SceneVersion.job_id == job.id, SceneVersion.number == number)
    row = db.scalars(query).first()
    if row is None:
        raise NotFoundError(f"scene version {number}")
    return row


def use(db: Session, job: Job, version: int) -> None:
    """Go back, or forward, to another version of the scene, by its id."""
    row = db.get(SceneVersion, version)
    if row is None or row.job_id != job.id:
        raise NotFoundError("scene version of that number")
    job.version_id = row.id
    weighing.keep_up(db, job)


def read_in(db: Session, job: Job, unit: Unit, up: Axis) -> Task | None:
    """Read the scene in another unit, or with another axis up: a new version of it.

    Returns
    -------
    Task or None
        None where it is read like that already.
    """
    version = find_version(db, job)
    analysis = analysis_of(db, version)
    if read_as(analysis) == (unit, up):
        return None
    payload = reading.Payload(version=version.id, name=version.file_name, unit=unit, up=up)
    return queue.put(db, READING, payload, job.id)


def choose_variants(db: Session, job: Job, wanted: Mapping[str, str]) -> Task:
    """Draw the scene in other variants: a new version of it, as it was opened but for that.

    Parameters
    ----------
    wanted : mapping
        The variant of each set that is to be another; an unnamed set is "".

    Raises
    ------
    MillError
        For a set or a variant that the scene has not.
    """
    version = find_version(db, job)
    known = {name: (names, drawn) for name, names, drawn in analysis_of(db, version).variant_sets}
    for group, name in wanted.items():
        if group not in known:
            listed = ", ".join(known) or "none"
            raise MillError(f"The scene has no variants “{group}”.", f"It has: {listed}.")
        if name not in known[group][0]:
            listed = ", ".join(known[group][0])
            raise MillError(f"There is no variant “{name}”.", f"Choose from {listed}.")
    drawn = {group: at for group, (_, at) in known.items() if at} | dict(wanted)
    choose = ", ".join(f"{group}={name}" if group else name for group, name in drawn.items())
    first = line_of(db, version)[0]
    payload = variant.Payload(version=first.id, name=first.file_name, choose=choose)
    return queue.put(db, VARIANT, payload, job.id)


def read_as(analysis: Analysis) -> tuple[str, str]:
    """The unit and the axis up by which a scene is read; the unit is empty for an unusual one."""
    metres, up = analysis.declared or (1.0, "y")
    return analysis.read_as or (unit_of(metres), up)


def write_as(db: Session, job: Job, name: str) -> Task:
    """Write the version in use in another format, to be downloaded.

    Raises
    ------
    MillError
        For a format that is not offered.
    """
    if name in CHANGED:
        return _write_changed(db, job, name)
    found = FORMATS[name].download if name in FORMATS else None
    if found is None:
        offered = ", ".join(f.name for f in FORMATS if f.download)
        raise MillError(f"Scenes are not written as “{name}”.", f"Choose from {offered}.")
    version = find_version(db, job)
    payload = export.Payload(
        version=version.id, number=version.number, format=name, ending=found.ending
    )
    return queue.put(db, EXPORT, payload, job.id)


def _write_changed(db: Session, job: Job, name: str) -> Task:
    """Write what of the version in use is another than in the scene as it was opened."""
    version = find_version(db, job)
    first = line_of(db, version)[0]
    if first.id == version.id:
        raise MillError(
            "Nothing was trimmed in this version yet.",
            "Apply the trim list, or use a later version.",
        )
    payload = export.Payload(
        version=version.id, number=version.number, format=name, ending=".zip", original=first.id
    )
    return queue.put(db, EXPORT, payload, job.id)


def line_of(db: Session, version: SceneVersion) -> list[SceneVersion]:
    """The version and all that it came from, the oldest first."""
    out = [version]
    while out[0].parent_id is not None:
        parent = db.get(SceneVersion, out[0].parent_id)
        if parent is None:
            break
        out.insert(0, parent)
    return out


def changes_since_opened(db: Session, version: SceneVersion) -> list[Change]:
    """All that was changed on the way to a version, in order."""
    return [Change.model_validate(c) for v in line_of(db, version) for c in v.changes]


def exports_of(db: Session, job: Job, most: int = 6) -> list[Task]:
    """The newest scenes that were written, or are being written, in other formats."""
    query = select(Task).where(Task.job_id == job.id, Task.kind == EXPORT.name)
    return list(db.scalars(query.order_by(Task.id.desc()).limit(most)))


def export_of(db: Session, job: Job, number: int) -> Task:
    """A scene that was written in another format."""
    row = db.get(Task, number)
    if row is None or row.job_id != job.id or "export" not in row.result:
        raise NotFoundError("file of that number")
    return row
