"""The Trim station: what is proposed, what is staged, scene versions, and taking a scene out."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Body, Request
from fastapi.responses import FileResponse, Response
from pydantic import BaseModel
from sqlalchemy.orm import Session

from mill_lane.core.formats.catalogue import FORMATS
from mill_lane.jobs import trims, versions
from mill_lane.jobs.lookup import find_job, find_version
from mill_lane.store.transactions import write
from mill_lane.web.shared.context import AHome, Db, Done, file_stem
from mill_lane.web.shared.pages import station_page
from mill_lane.web.shared.station import Station
from mill_lane.web.stations.trim import view

router = APIRouter()


@router.get("/jobs/{job}/trim", include_in_schema=False)
def page(
    request: Request,
    db: Db,
    home: AHome,
    job: int,
    trim: str = view.USUAL,
    rule: str = "",
) -> Response:
    """What a trim proposes, and the trim list."""
    c = station_page(request, db, job, "trim", "Trim")
    if isinstance(c, Response):
        return c
    proposed = view.proposed(db, home, c.summary, trim, rule)
    return c.draw(
        **view.context(c.summary, proposed, trims.staged(db, c.summary.version), rule),
        task=view.unfinished(trims.trim_task(db, c.summary.job)),
        versions=view.version_lines(versions.versions_of(db, c.summary.job)),
        exports=versions.exports_of(db, c.summary.job),
        downloads=[(f.name, f.download.title) for f in FORMATS if f.download],
    )


class StageForm(BaseModel):
    """What is to be staged, or taken off the list: targets of a trim's proposals, or all of
    them.
    """

    trim: str = view.USUAL
    rule: str = ""
    targets: list[str] = []
    stage: bool = True
    all: bool = False


@router.post("/api/jobs/{job}/trim-list")
def stage(home: AHome, job: int, form: StageForm) -> Done:
    """Put proposals on the trim list, or take them off."""
    values = view.parameters(form.trim, form.rule)
    # A trim may look into the scene for what it proposes: nobody is to wait for that.
    with home.sessions() as db:
        row = find_job(db, job)
        version = find_version(db, row)
        found = trims.propose(db, home, row, form.trim, values).found
    wanted = [p for p in found if form.all or p.target.key in form.targets]

    def change(db: Session) -> None:
        if form.stage:
            trims.stage(db, version, wanted)
        else:
            trims.unstage(db, version, form.trim, [p.target.key for p in wanted])

    write(home.sessions, change)
    return Done()


@router.post("/api/jobs/{job}/trim")
def apply(db: Db, job: int) -> Done:
    """Make a new scene version with the staged changes; the old one stays."""
    trims.apply_list(db, find_job(db, job))
    return Done()


@router.put("/api/jobs/{job}/version")
def use_version(db: Db, job: int, version: Annotated[int, Body(embed=True)]) -> Done:
    """Go back, or forward, to another version of the scene."""
    versions.use(db, find_job(db, job), version)
    return Done()


class ExportForm(BaseModel):
    """How a scene is to go out: the name of a format."""

    format: str


@router.post("/api/jobs/{job}/exports")
def export(db: Db, job: int, form: ExportForm) -> Done:
    """Write the scene version in use in another format."""
    versions.write_as(db, find_job(db, job), form.format)
    return Done()


@router.get("/jobs/{job}/exports/{task}", include_in_schema=False)
def download_export(db: Db, home: AHome, job: int, task: int) -> Response:
    """A scene that was written in another format."""
    row = find_job(db, job)
    found = versions.export_of(db, row, task)
    ending = found.payload["ending"].lstrip(".")
    formats = [f.download for f in FORMATS if f.download and f.download.ending == f".{ending}"]
    return FileResponse(
        home.files.path(found.result["export"]["hash"]),
        media_type=formats[0].media_type if formats else "application/octet-stream",
        filename=f"{file_stem(row.name)} v{found.payload['number']}.{ending}",
    )


@router.get("/jobs/{job}/scene.glb", include_in_schema=False)
def download_scene(db: Db, home: AHome, job: int, version: int | None = None) -> Response:
    """The scene version in use, or the numbered one, as GLB."""
    row = find_job(db, job)
    found = versions.numbered(db, row, version)
    return FileResponse(
        home.files.path(found.file_hash),
        media_type="model/gltf-binary",
        filename=f"{file_stem(row.name)} v{found.number}.glb",
    )


TRIM = Station("trim", "Trim", router, view.figure, Path(__file__).parent)
