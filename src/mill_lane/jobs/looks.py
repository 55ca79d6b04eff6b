"""First looks at scene versions: asked for, found, and where their pictures lie."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.jobs.lookup import analysis_of, find_version, recipe_of
from mill_lane.jobs.summary import Summary
from mill_lane.store.home import Home
from mill_lane.store.models import Job, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.kinds.final import same_shape
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
    db: Session,
    version: SceneVersion,
    camera: str = "",
    frame: int | None = None,
    aspect: float = 0.0,
) -> FirstLook | None:
    """The newest look at a version, through a camera at a frame; None where nobody looked.

    One of that aspect goes first, where it has a picture; 0 is any.
    """
    found = [
        (same_shape(asked.aspect, aspect), _found(task))
        for task, asked in _asked(db, version)
        if (asked.camera, asked.frame) == (camera, frame)
    ]
    ranked = sorted(found, key=lambda x: (not x[1].shown, not x[0], not x[1].refining))
    return ranked[0][1] if ranked else None


def _asked(db: Session, version: SceneVersion) -> list[tuple[Task, Payload]]:
    """The looks at a version that were asked for, newest first."""
    pairs = [(t, Payload.model_validate(t.payload)) for t in _tasks(db, [version.job_id])]
    return [(task, asked) for task, asked in pairs if asked.version == version.id]


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
    aspect = _final_aspect(db, job)
    for task, asked in _asked(db, version):
        if (asked.camera, asked.frame) != (camera, frame):
            continue
        found = _found(task)
        if same_shape(asked.aspect, aspect) and not task.cancel and (found.refining or found.shown):
            return task
        if found.refining:
            queue.cancel(db, task)  # of a shape that is wanted no more
    payload = Payload(version=version.id, camera=camera, frame=frame, aspect=aspect)
    return queue.put(db, FIRST_LOOK, payload, job.id)


def keep_up(db: Session, job: Job) -> Task | None:
    """Have the version in use looked at in the shape of the final set, where it was in another.

    Returns the look that was asked for; None where there is one, or nobody looked yet.
    """
    version = db.get(SceneVersion, job.version_id) if job.version_id else None
    if version is None:
        return None
    camera, cameras = recipe_of(db, job, "final").camera, analysis_of(db, version).cameras
    camera = camera if camera in cameras else ""
    names = {camera, ""} if camera in ("", *cameras[:1]) else {camera}
    looked = [a for _, a in _asked(db, version) if a.frame is None and a.camera in names]
    if not looked or any(same_shape(a.aspect, _final_aspect(db, job)) for a in looked):
        return None
    return ask_for_look(db, job, camera)


def _final_aspect(db: Session, job: Job) -> float:
    final = recipe_of(db, job, "final")
    return final.width / final.height


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
    aspect = summary.final.width / summary.final.height
    found = look_at(db, summary.version, camera, None if frame == first else frame, aspect)
    if found is None and camera and summary.analysis.cameras[0] == camera and frame is None:
        found = look_at(db, summary.version, aspect=aspect)
    return found
