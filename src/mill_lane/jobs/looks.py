"""First looks at scene versions: asked for, found, and where their pictures lie."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.jobs.lookup import analysis_of, find_version
from mill_lane.jobs.summary import Summary
from mill_lane.store.home import Home
from mill_lane.store.models import Job, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.kinds.first_look import FIRST_LOOK, MESHES, PICTURE, Payload


@dataclass(frozen=True)
class FirstLook:
    """The view of a scene version through a camera at a frame.

    Attributes
    ----------
    task : Task
    shown : bool
        Whether there is a picture already.
    stamp : str
        Changes whenever the picture does.
    """

    task: Task
    shown: bool
    stamp: str

    @property
    def refining(self) -> bool:
        """Whether it is being drawn or waits for it."""
        return not self.task.over


def look_at(
    db: Session, version: SceneVersion, camera: str = "", frame: int | None = None
) -> FirstLook | None:
    """The newest look at a version, through a camera at a frame; None where nobody looked."""
    for task in _tasks(db, [version.job_id]):
        asked = Payload.model_validate(task.payload)
        if (asked.version, asked.camera, asked.frame) == (version.id, camera, frame):
            return _found(task)
    return None


def newest_looks(db: Session, versions: Sequence[int], jobs: Sequence[int]) -> dict[int, FirstLook]:
    """The looks that came by themselves, by scene version."""
    out: dict[int, FirstLook] = {}
    for task in _tasks(db, jobs):
        asked = Payload.model_validate(task.payload)
        if asked.version in versions and not asked.camera and asked.frame is None:
            out.setdefault(asked.version, _found(task))
    return out


def _tasks(db: Session, jobs: Sequence[int]) -> Sequence[Task]:
    query = select(Task).where(Task.kind == FIRST_LOOK.name, Task.job_id.in_(jobs))
    return db.scalars(query.order_by(Task.id.desc())).all()


def _found(task: Task) -> FirstLook:
    shown = bool(task.result.get("picture") or task.live.get("shown"))
    stamp = task.result.get("picture", "")[:12] or f"{task.id}-{task.live.get('stamp', 0)}"
    return FirstLook(task, shown, stamp)


def ask_for_look(db: Session, job: Job, camera: str = "", frame: int | None = None) -> Task:
    """Have the scene looked at through a camera at a frame, unless it was already.

    Raises
    ------
    MillError
        For a camera that the scene has not, or a frame outside its range.
    """
    version = find_version(db, job)
    analysis = analysis_of(db, version)
    first, last = analysis.frames
    if frame is not None and not first <= frame <= last:
        raise MillError(f"The shot has no frame {frame}.", f"Choose one from {first} to {last}.")
    if camera and camera not in analysis.cameras:
        known = ", ".join(analysis.cameras)
        raise MillError(f"The scene has no camera “{camera}”.", f"It has: {known}.")
    found = look_at(db, version, camera, frame)
    if found is not None and (found.refining or found.shown):
        return found.task
    payload = Payload(version=version.id, camera=camera, frame=frame)
    return queue.put(db, FIRST_LOOK, payload, job.id)


def picture_of(home: Home, task: Task, meshes: bool = False) -> Path:
    """Where the picture of a look lies, or the one that tells which mesh is where.

    Raises NotFoundError where there is none yet.
    """
    digest = task.result.get("meshes" if meshes else "picture")
    if digest:
        return home.files.path(digest)
    path = home.scratch / f"task-{task.id}" / (MESHES if meshes else PICTURE)
    if not path.exists():
        raise NotFoundError("first look yet")
    return path


def look_of(db: Session, summary: Summary, frame: int | None = None) -> FirstLook | None:
    """The look at a job's scene through the camera that its recipe names."""
    known = summary.final.camera in summary.analysis.cameras
    camera = summary.final.camera if known else ""
    first = summary.analysis.frames[0]
    found = look_at(db, summary.version, camera, None if frame == first else frame)
    if found is None and camera and summary.analysis.cameras[0] == camera and frame is None:
        found = look_at(db, summary.version)
    return found
