"""The page of what is being done and what waits, with what goes first."""

from __future__ import annotations

from dataclasses import dataclass

from fastapi import APIRouter, Request
from fastapi.responses import Response
from sqlalchemy.orm import Session

from mill_lane.jobs.tasks import in_line
from mill_lane.store.models import Job, Task
from mill_lane.web.shared.context import Db
from mill_lane.web.shared.pages import draw
from mill_lane.work.kinds import KINDS

router = APIRouter(include_in_schema=False)
# What each kind of task is called.
TITLES = {
    "prepare": "getting the renderer ready",
    "demo": "building the demo scene",
    "open": "opening a scene",
    "reading": "reading in another unit",
    "camera": "putting a camera up",
    "variant": "drawing another variant",
    "first_look": "first look",
    "live_look": "looking",
    "preload": "building what rays go through",
    "weigh": "weighing",
    "propose": "working out trims",
    "visible_cost": "looking at what trims change",
    "trim": "trimming",
    "export": "writing a scene",
    "render": "rendering",
    "denoise": "denoising",
    "denoise_later": "denoising later",
    "denoise_files": "denoising files",
    "hold": "how few samples hold",
    "deliver": "making a film or a sheet",
    "spread": "sharing frames out",
}


@dataclass(frozen=True)
class Line:
    """A task as a row."""

    task: Task
    title: str
    job: Job | None
    patient: bool


@router.get("/queue")
def page(request: Request, db: Db) -> Response:
    """What runs, and what waits in about that order."""
    return draw(request, db, "home/queue.html", title="Queue", lines=lines_of(db))


def lines_of(db: Session) -> list[Line]:
    """All tasks that run or wait."""
    patient = {k.name for k in KINDS if k.gives_way}
    return [
        Line(
            task,
            TITLES.get(task.kind, task.kind),
            db.get(Job, task.job_id) if task.job_id else None,
            task.kind in patient,
        )
        for task in in_line(db)
    ]
