"""What goes to the child that renders, and what comes back."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import BaseModel
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mill_lane.core.plan.parts import images_of
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.plan.way import Means
from mill_lane.core.recipe import Recipe
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store.models import Render, RenderGroup, SceneVersion
from mill_lane.work import runs

THUMBNAIL = "thumbnail"  # among the layers of a frame of a run


class Output(BaseModel):
    """What is written of a frame under its own name, and the folder."""

    sheet: RunSheet
    folder: Path


def of_run(db: Session, row: Render) -> dict[str, Any]:
    """What a request has of the run that its frame belongs to; nothing for any other render."""
    group = db.get(RenderGroup, row.group_id) if row.group_id else None
    settings = runs.settings_of(group)
    if settings is None:
        return {}
    first = bool(settings.means.parts) and not _compared(db, row)
    return of_group(settings, row.version) | ({"compare": True} if first else {})


def _compared(db: Session, row: Render) -> bool:
    """Whether a frame of the same run told how its parts add up."""
    told = func.json_extract(Render.measured, "$.parts.light")
    query = select(Render.id).where(Render.group_id == row.group_id, told.is_not(None))
    return db.scalars(query.limit(1)).first() is not None


def of_group(settings: runs.RunSettings, version: SceneVersion) -> dict[str, Any]:
    """What the requests of all frames of a run have."""
    out: dict[str, Any] = {
        "output": Output(sheet=settings.sheet, folder=settings.folder),
        "means": settings.means,
    }
    if settings.means.parts:
        out["images"] = images_of(read_analysis(version.analysis))
    return out


class Request(BaseModel):
    """All that the child needs; see `Session` for most of it."""

    scene: Path
    recipe: Recipe
    region: tuple[int, int, int, int]
    frame: int
    preview: dict[str, Any]
    threads: int
    memory_limit: int
    key: str
    about: str
    sky: Path | None
    folder: Path
    # Whether it is taken apart: pictures of its layers, and where the time goes.
    taken_apart: bool
    checkpoint_seconds: float
    output: Output | None = None
    # The key of a frame that has ended, from whose state this one goes on with more samples.
    ended: str = ""
    textures: Path | None = None  # the folder where decoded ones are kept
    choices: str = ""  # of the scene's file; see `formats.choices`
    means: Means = Means()
    compare: bool = False  # whether the parts are to be compared with the whole first
    images: dict[int, set[int]] = {}  # that each mesh uses, where the scene is rendered in parts


class Layer(BaseModel):
    """The picture of a layer, with its scale where it is a map."""

    path: Path
    low: float | None = None
    high: float | None = None
    unit: str | None = None


class Result(BaseModel):
    """What was made and measured."""

    picture: Path
    exr: Path
    stopped: bool
    layers: dict[str, Layer] = {}
    state: Path | None = None  # from which it can get more samples
    time_profile: dict[str, Any] = {}
    measured: dict[str, Any]
