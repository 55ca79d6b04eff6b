"""The Scene station: its page, its tables as CSV, the map of overlaps, reading in another unit."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated
from urllib.parse import quote

from fastapi import APIRouter, Depends, Request
from fastapi.responses import Response
from pydantic import BaseModel, Field

from mill_lane.core.errors import NotFoundError
from mill_lane.jobs import cameras, looks, versions
from mill_lane.jobs.lookup import analysis_of, find_job, find_task, find_version
from mill_lane.jobs.tasks import weighing
from mill_lane.web.shared.context import AHome, Db, Done, file_stem
from mill_lane.web.shared.kept_files import FOR_EVER
from mill_lane.web.shared.pages import station_page
from mill_lane.web.shared.station import Station
from mill_lane.web.stations.scene import tables, view
from mill_lane.web.stations.scene.overlap import overlap_map
from mill_lane.work.kinds.camera import View
from mill_lane.work.kinds.reading import Axis, Unit

router = APIRouter()


@router.get("/jobs/{job}/scene", include_in_schema=False)
def page(request: Request, db: Db, job: int, asked: Annotated[view.Asked, Depends()]) -> Response:
    """What is in the scene, from above and in tables."""
    c = station_page(request, db, job, "scene", "Scene")
    if isinstance(c, Response):
        return c
    return c.draw(**view.context(c.summary, asked, weighing(db, c.summary.version), db))


@router.get("/jobs/{job}/overlap.png", include_in_schema=False)
def overlap_picture(db: Db, job: int) -> Response:
    """How many transparent layers lie one behind another, in the frame that has most."""
    found = analysis_of(db, find_version(db, find_job(db, job))).visibility
    if found is None:
        raise NotFoundError("map of overlaps yet")
    return Response(overlap_map(found), media_type="image/png")


@router.get("/jobs/{job}/scene.csv", include_in_schema=False)
def as_csv(
    db: Db, job: int, tab: str = "meshes", sort: str = "", turned: bool = False, q: str = ""
) -> Response:
    """A table of the page, as it is sorted and filtered there."""
    if tab not in tables.TABLES:
        raise NotFoundError("table of that name")
    row = find_job(db, job)
    found = tables.rows(analysis_of(db, find_version(db, row)), tab, sort, turned, q)
    name = quote(f"{file_stem(row.name)} {tab}.csv")
    headers = {"Content-Disposition": f"attachment; filename*=utf-8''{name}"}
    text = tables.as_csv(tab, found)
    return Response(text, media_type="text/csv; charset=utf-8", headers=headers)


class Reading(BaseModel):
    """How a file that says neither is to be read: its unit, and the axis that points up."""

    unit: Unit
    up: Axis


@router.post("/api/jobs/{job}/reading")
def read_again(db: Db, job: int, form: Reading) -> Done:
    """Read the scene in another unit, or with another axis up: a new version of it."""
    versions.read_in(db, find_job(db, job), form.unit, form.up)
    return Done()


class Variants(BaseModel):
    """A set of variants, and the one of it that is to be drawn."""

    group: Annotated[str, Field(max_length=200)] = ""
    name: Annotated[str, Field(max_length=200)]


@router.post("/api/jobs/{job}/variant")
def choose_variant(db: Db, job: int, form: Variants) -> Done:
    """Draw the scene in another variant: a new version of it."""
    versions.choose_variants(db, find_job(db, job), {form.group: form.name})
    return Done()


@router.get("/jobs/{job}/look.png", include_in_schema=False)
def look_picture(
    db: Db, home: AHome, job: int, task: int, meshes: bool = False, v: str = ""
) -> Response:
    """A first look, or the picture that tells which mesh is where in it."""
    row = find_task(db, task)
    if row.job_id != find_job(db, job).id or row.kind != "first_look":
        raise NotFoundError("first look of that number")
    kept = bool(row.result.get("picture"))
    headers = FOR_EVER if kept and v else {"Cache-Control": "no-store"}
    try:
        pixels = looks.picture_of(home, row, meshes).read_bytes()
    except (NotFoundError, FileNotFoundError):
        # It gave way to something else and is drawn anew, or another look is drawn in its place.
        return Response(status_code=204)
    return Response(pixels, media_type="image/png", headers=headers)


class Look(BaseModel):
    """Through which camera, at which frame; empty for those of the recipe and the first."""

    camera: Annotated[str, Field(max_length=200)] = ""
    frame: int | None = None


@router.post("/api/jobs/{job}/look")
def ask_for_look(db: Db, job: int, form: Look) -> Done:
    """Have the scene looked at."""
    looks.ask_for_look(db, find_job(db, job), form.camera, form.frame)
    return Done()


class Chosen(BaseModel):
    """A camera by name."""

    name: Annotated[str, Field(max_length=200)]


@router.post("/api/jobs/{job}/camera")
def choose_camera(db: Db, job: int, form: Chosen) -> Done:
    """Look through another camera from now on."""
    cameras.choose_camera(db, find_job(db, job), form.name)
    return Done()


@router.post("/api/jobs/{job}/cameras")
def put_up_camera(db: Db, job: int, form: View) -> Done:
    """Put a camera up that sees all of the scene: a new version of it."""
    cameras.put_up(db, find_job(db, job), form)
    return Done()


SCENE = Station("scene", "Scene", router, view.figure, Path(__file__).parent)
