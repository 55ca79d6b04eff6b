"""Which camera a job looks through, and putting one up by hand."""

from __future__ import annotations

from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.core.recipe import framed
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.jobs import weighing
from mill_lane.jobs.looks import ask_for_look
from mill_lane.jobs.lookup import analysis_of, chosen_recipe, find_version, recipe_of
from mill_lane.jobs.recipes import ROLES, edit
from mill_lane.store.models import Job, Task
from mill_lane.work import queue
from mill_lane.work.kinds.camera import PUT_UP, View
from mill_lane.work.kinds.camera import Payload as PutUpPayload


def choose_camera(db: Session, job: Job, name: str) -> None:
    """Look through a camera from now on: draft and final recipe, distances, the first look.

    Raises
    ------
    MillError
        For a camera that the scene has not.
    """
    version = find_version(db, job)
    analysis = analysis_of(db, version)
    if name not in analysis.cameras:
        known = ", ".join(analysis.cameras) or "none"
        raise MillError(f"The scene has no camera “{name}”.", f"It has: {known}.")
    shape = analysis.shape_of(name)
    before = recipe_of(db, job, "final").height
    for role in ROLES:
        recipe = framed(read_recipe(chosen_recipe(db, job, role).data), shape)
        edit(db, job, role, {"camera": name, "width": recipe.width, "height": recipe.height})
    if job.delivered_height == before:  # it stands as the frame does
        job.delivered_height = recipe_of(db, job, "final").height
    if weighing.keep_up(db, job) is not None:
        ask_for_look(db, job, name)


def put_up(db: Session, job: Job, view: View) -> Task:
    """Put a camera up that frames the whole scene: a new version of it.

    Raises
    ------
    MillError
        Where the scene has a camera of that name.
    """
    version = find_version(db, job)
    if view.name in analysis_of(db, version).cameras:
        raise MillError(f"The scene has a camera “{view.name}” already.", "Call it otherwise.")
    payload = PutUpPayload(version=version.id, name=version.file_name, view=view)
    return queue.put(db, PUT_UP, payload, job.id)
