"""Jobs: begun by opening a scene, named, put away and back."""

from __future__ import annotations

import itertools
import math
import threading
import time
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.formats.blob import inside
from mill_lane.core.formats.catalogue import read_endings
from mill_lane.core.formats.choices import parse_choices
from mill_lane.core.formats.unread import refuse_name
from mill_lane.core.names import short_name
from mill_lane.jobs.lookup import find_job, own_cpu
from mill_lane.jobs.recipes import add_recipes
from mill_lane.store.models import Job, Task
from mill_lane.work import queue
from mill_lane.work.kinds.demo import DEMO
from mill_lane.work.kinds.open import OPEN, Payload

LISTED_SECONDS = 5.0
MOST_MET = 100_000  # files and folders that are looked at
MOST_LISTED = 200


@dataclass(frozen=True)
class Opened:
    """A job that was begun, and the task that reads its scene."""

    job: int
    task: int


def check_name(name: str) -> str:
    """A file name fit to be shown.  Raises MillError for endings that are not read."""
    short = short_name(name, "scene")
    endings = read_endings()
    refuse_name(short)
    if not short.lower().endswith(endings):
        raise MillError(
            f"“{short}” is not a scene file that is read.",
            f"Mill Lane reads {', '.join(endings)}. "
            "A scene with files beside it goes into one ZIP.",
            "Nothing was imported.",
        )
    return short


def open_file(db: Session, source: str, name: str, uploaded: bool, choose: str = "") -> Opened:
    """Begin a job with a scene file.

    Parameters
    ----------
    db : Session
    source : str
        The name of a file in the scratch folder if it was uploaded, else a path.
    name : str
        Under which the artist knows it.
    uploaded : bool
        Whether the file belongs to the task from now on.
    choose : str
        Variants, and payloads to leave out; see `core.formats.choices`.

    Raises
    ------
    MillError
        For choices that are not written as such.
    """
    parse_choices(choose)
    job = Job(name=Path(name).stem, device_id=own_cpu(db).id)
    db.add(job)
    db.flush()
    add_recipes(db, job)
    payload = Payload(source=source, name=name, uploaded=uploaded, choose=choose)
    return Opened(job.id, queue.put(db, OPEN, payload, job.id).id)


def open_from_folder(db: Session, folder: Path | None, file: str, choose: str = "") -> Opened:
    """Begin a job with a file of the folder that was named at the start."""
    if folder is None:
        raise MillError(
            "No folder of scenes was named at the start.", "Start with --scenes FOLDER."
        )
    path = inside(folder, file)
    if not path.is_file():
        raise MillError(f"“{file}” is no longer in the folder.", "Reload the page.")
    return open_file(db, str(path), check_name(path.name), False, choose)


class SceneFolder:
    """A folder of scene files, looked through at most every few seconds.

    Pages are drawn again whenever something happens; the folder may be large, or on a slow disk.
    """

    def __init__(self, folder: Path | None) -> None:
        self.folder = folder
        self._lock = threading.Lock()
        self._read = -math.inf
        self._found: list[tuple[str, int]] = []

    def listed(self) -> list[tuple[str, int]]:
        """The scene files that are there, as (name within it, bytes)."""
        with self._lock:
            if time.monotonic() - self._read > LISTED_SECONDS:
                self._found = _look_through(self.folder)
                self._read = time.monotonic()
            return self._found


def _look_through(folder: Path | None) -> list[tuple[str, int]]:
    if folder is None or not folder.is_dir():
        return []
    endings = read_endings()
    met = itertools.islice(folder.rglob("*"), MOST_MET)
    found = (p for p in met if p.suffix.lower() in endings and p.is_file())
    return sorted((str(p.relative_to(folder)), p.stat().st_size) for p in found)[:MOST_LISTED]


def jobs(db: Session) -> list[Job]:
    """All jobs that were not put away."""
    return list(db.scalars(select(Job).where(~Job.removed).order_by(Job.id)))


def opening_task(db: Session, job: Job) -> Task | None:
    """The newest task that reads, or builds, a job's scene."""
    kinds = (DEMO.name, OPEN.name)
    query = select(Task).where(Task.job_id == job.id, Task.kind.in_(kinds))
    return db.scalars(query.order_by(Task.id.desc()).limit(1)).first()


def choose_root(db: Session, job: Job, root: str) -> Task:
    """Open one of several scenes of the ZIP that was sent.

    Raises
    ------
    MillError
        Where there is nothing to choose, or nothing of that name.
    """
    task = opening_task(db, job)
    roots = list((task.error or {}).get("roots", [])) if task is not None else []
    if task is None or task.state != "failed" or root not in roots:
        raise MillError(
            f"There is no scene “{root}” to choose.", "Choose one of those that are named."
        )
    task.payload = {**task.payload, "root": root}
    queue.retry(db, task)
    return task


def rename(db: Session, number: int, name: str) -> None:
    """Call a job otherwise."""
    find_job(db, number).name = name.strip() or "Job"


def put_away(db: Session, number: int) -> Job:
    """Put a job away; its tasks stop, its files stay."""
    job = find_job(db, number)
    for task in db.scalars(select(Task).where(Task.job_id == job.id)):
        queue.cancel(db, task)
    job.removed = True
    return job


def put_back(db: Session, number: int) -> Job:
    """Undo that a job was put away."""
    job = db.get(Job, number)
    if job is None:
        raise NotFoundError("job of that number")
    job.removed = False
    return job
