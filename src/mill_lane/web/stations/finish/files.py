"""Files of the folder of frames, denoised in one go."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Request
from fastapi.responses import Response
from pydantic import BaseModel, Field
from sqlalchemy.orm import Session

from mill_lane.core.denoise.look import READ
from mill_lane.core.denoise.names import MOST_BESIDE, RADIUS, STRENGTH
from mill_lane.core.errors import MillError
from mill_lane.jobs.frame_files import denoise_files, look, newest, sequences
from mill_lane.jobs.lookup import find_job
from mill_lane.store.models import Job
from mill_lane.web.shared.context import Db, Done, settings_of
from mill_lane.web.shared.pages import station_page
from mill_lane.work.kinds.denoise_files import Payload

router = APIRouter()
Layer = Annotated[str, Field(max_length=200)]
Name = Annotated[str, Field(max_length=1000)]


@router.get("/jobs/{job}/finish/files", include_in_schema=False)
def page(
    request: Request,
    db: Db,
    job: int,
    source: str = "",
    albedo: str = "",
    normal: str = "",
    depth: str = "",
    motion: str = "",
) -> Response:
    """What lies in the folder of frames, and what the chosen files have for a denoiser."""
    c = station_page(request, db, job, "finish", "Files")
    if isinstance(c, Response):
        return c
    chosen = {"albedo": albedo, "normal": normal, "depth": depth, "motion": motion}
    folder = settings_of(request).frames_folder
    return c.draw("files.html", **context(db, c.summary.job, folder, source, chosen))


def context(
    db: Session, job: Job, folder: Path, source: str, chosen: dict[str, str]
) -> dict[str, Any]:
    """All that the page needs beside what every station has."""
    found = sequences(folder)
    task = newest(db, job)
    last = _below(task.payload["source"], folder) if task is not None else ""
    named = source or next((s.name for s in found if s.name == last), "")
    named = named or (found[0].name if found else "")
    guides_from = {guide: layer for guide, layer in chosen.items() if layer}
    seen, trouble = None, None
    if named:
        try:
            seen = look(folder, named, guides_from)
        except MillError as e:
            trouble = e
    return {
        "folder": folder,
        "sequences": found,
        "source": named,
        "look": seen,
        "trouble": trouble,
        "guides": READ,
        "chosen": chosen,
        "task": task,
        "measured": (task.result or {}).get("measured") if task is not None else None,
        "below": _below(task.payload["out"], folder) if task is not None else "",
        "strength": STRENGTH,
        "radius": RADIUS,
        "most_beside": MOST_BESIDE,
    }


def _below(path: str, folder: Path) -> str:
    """A path as it is called below the folder."""
    found = Path(path)
    return str(found.relative_to(folder) if found.is_relative_to(folder) else found)


class FilesForm(BaseModel):
    """Which files, where to, and how they are worked."""

    source: Name
    out: Name
    mode: Literal["quality", "preview", "fireflies"] = "quality"
    strength: Annotated[float, Field(ge=0, le=100)] = 100 * STRENGTH  # in percent
    radius: Annotated[int, Field(ge=1, le=20)] = RADIUS
    beside: Annotated[int, Field(ge=0, le=MOST_BESIDE)] = 0
    there: Literal["refuse", "skip", "overwrite"] = "refuse"
    albedo: Layer = ""
    normal: Layer = ""
    depth: Layer = ""
    motion: Layer = ""


@router.post("/api/jobs/{job}/denoise-files")
def start(request: Request, db: Db, job: int, form: FilesForm) -> Done:
    """Have files of the folder denoised, one after another."""
    layers = {guide: getattr(form, guide) for guide in READ}
    payload = Payload(
        source=Path(form.source),
        out=Path(form.out),
        mode=form.mode,
        strength=form.strength / 100,
        radius=form.radius,
        beside=form.beside,
        guides_from={guide: layer for guide, layer in layers.items() if layer},
        there=form.there,
    )
    denoise_files(db, find_job(db, job), settings_of(request).frames_folder, payload)
    return Done()
