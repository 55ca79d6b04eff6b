"""Weighing a scene again, or asking again what could be trimmed, where what is known is of another
camera, or another shape or size of picture.
"""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session, defer

from mill_lane.core.recipe import Recipe
from mill_lane.core.weigh.analysis import STAGES, Analysis
from mill_lane.jobs import looks
from mill_lane.jobs.lookup import OPEN_STATES, analysis_of, recipe_of
from mill_lane.store.models import Job, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.kinds.final import largest_picture, same_shape
from mill_lane.work.kinds.propose import PROPOSE, usual_questions
from mill_lane.work.kinds.weigh import WEIGH, Payload


def is_of(analysis: Analysis, final: Recipe) -> bool:
    """Whether an analysis is of the camera and the shape of the picture of the final set."""
    alike = same_shape(analysis.aspect, final.width / final.height)
    return alike and analysis.camera == analysis.camera_for(final.camera)


def keep_up(db: Session, job: Job) -> Task | None:
    """Have the version in use weighed for the final set as it is now, if it is not.

    What is being weighed for another is stopped: its figures are wanted no more.

    Returns
    -------
    Task or None
        The weighing that is waited for; None where there is none to wait for.
    """
    version = db.get(SceneVersion, job.version_id) if job.version_id else None
    if version is None:
        return None
    looks.keep_up(db, job)
    analysis, final = analysis_of(db, version), recipe_of(db, job, "final")
    asked = asked_for(analysis, final, version)
    stopped = False
    for task in _weighings(db, version):
        if _alike(Payload.model_validate(task.payload), asked):
            return task
        queue.cancel(db, task)
        stopped = True
    done = analysis.stage == len(STAGES) - 1
    # One that failed, or was stopped by hand, is begun again by hand.
    if is_of(analysis, final) and (done or not stopped):
        if done:
            _ask_anew(db, job, version)
        return None
    return queue.put(db, WEIGH, asked, job.id)


def _ask_anew(db: Session, job: Job, version: SceneVersion) -> None:
    """Have it worked out what could be trimmed for a picture as large as it is now, if that was
    not asked yet.
    """
    questions = usual_questions(version.id, largest_picture(db, job.id), version.analysis_mark)
    wanted = questions.model_dump(mode="json")
    query = select(Task).where(Task.kind == PROPOSE.name, Task.job_id == job.id)
    for task in db.scalars(query.options(defer(Task.result))):
        if task.payload == wanted and task.state in (*OPEN_STATES, "done"):
            return
    queue.put(db, PROPOSE, questions, job.id)


def asked_for(analysis: Analysis, final: Recipe, version: SceneVersion) -> Payload:
    """Weighing a version as the final set looks at it."""
    camera = analysis.camera_for(final.camera)
    return Payload(version=version.id, camera=camera, aspect=final.width / final.height)


def _alike(one: Payload, other: Payload) -> bool:
    return same_shape(one.aspect, other.aspect) and one.camera == other.camera


def _weighings(db: Session, version: SceneVersion) -> list[Task]:
    """Weighings of a version that wait or run, and are not being stopped."""
    query = select(Task).where(
        Task.job_id == version.job_id,
        Task.kind == WEIGH.name,
        Task.state.in_(OPEN_STATES),
        ~Task.cancel,
    )
    return [t for t in db.scalars(query) if t.payload.get("version") == version.id]
