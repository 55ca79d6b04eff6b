"""Saved sessions: a paused trial as a file, from which it goes on bit for bit."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, ValidationError, field_validator
from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.names import short_name
from mill_lane.core.recipe import Recipe, Region
from mill_lane.core.recipe_versions import upgraded
from mill_lane.core.render.state import state_about, state_key
from mill_lane.jobs.lookup import device_of, find_task
from mill_lane.jobs.renders import Shot, add_render
from mill_lane.store.home import Home
from mill_lane.store.models import Job, Render, SceneVersion


class About(BaseModel):
    """What a saved session says of itself."""

    model_config = ConfigDict(extra="forbid")

    file_hash: str
    recipe: Recipe
    region: Region
    frame: int
    preview: dict[str, Any]
    note: str

    @field_validator("recipe", mode="before")
    @classmethod
    def _of_any_version(cls, values: Any) -> Any:
        return upgraded(values) if isinstance(values, Mapping) else values


@dataclass(frozen=True)
class Saved:
    """A session file that was read: what it says, and the key that it was saved under."""

    about: About
    key: str
    name: str


def saved_session(db: Session, home: Home, task: int) -> tuple[Path, str]:
    """The state of a paused trial, and a name for it."""
    row = find_task(db, task)
    query = select(Render).where(Render.task_id == row.id, Render.kind == "trial")
    trial = db.scalars(query).first()
    state = home.task_folder(task) / "state.npz"
    if trial is None or row.state != "paused" or not state.exists():
        raise NotFoundError("paused trial of that number")
    return state, f"trial-{trial.number}.session"


def read_session(path: Path, name: str) -> Saved:
    """Read what a session file says of itself; this takes no database.

    Raises
    ------
    MillError
        For what is no saved session, or one of another edition.
    """
    short = short_name(name, "session")
    try:
        about = About.model_validate_json(state_about(path, short))
    except ValidationError as e:
        raise MillError(
            f"“{short}” was saved by another edition of Mill Lane.",
            "Run the trial again here.",
            "Nothing was changed.",
        ) from e
    return Saved(about, state_key(path, short), short)


def load_session(db: Session, home: Home, job: Job, path: Path, saved: Saved) -> Render:
    """Take a saved session up as a new trial, paused where it was.

    Raises
    ------
    MillError
        Where it belongs to a scene that the job has not.
    """
    about = saved.about
    query = select(SceneVersion).where(
        SceneVersion.job_id == job.id, SceneVersion.file_hash == about.file_hash
    )
    version = db.scalars(query).first()
    if version is None:
        raise MillError(
            f"“{saved.name}” was saved with another scene than this job has.",
            "Open that scene, and load the session there.",
            "Nothing was changed.",
        )
    shot = Shot(about.recipe, about.region, about.frame, about.preview)
    note = about.note or f"loaded from {saved.name}"
    device = device_of(job.device)
    trial, task = add_render(db, job, version, shot, device, "trial", note, key=saved.key)
    task.state, task.text = "paused", "paused"
    # A link, since the transaction may be tried again; the file itself is its receiver's.
    state = home.task_folder(task.id) / "state.npz"
    state.unlink(missing_ok=True)
    state.hardlink_to(path)
    return trial
