"""The Trim station: what is proposed, what is staged, scene versions, and taking a scene out."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated
from urllib.parse import quote

from fastapi import APIRouter, Body, Request
from fastapi.responses import FileResponse, Response
from pydantic import BaseModel, Field

from mill_lane.core.errors import NotFoundError
from mill_lane.core.formats.catalogue import FORMATS
from mill_lane.core.trim import TRIMS
from mill_lane.jobs import costs, delivery, proposals, trims, versions
from mill_lane.jobs.lookup import find_job, find_version
from mill_lane.jobs.savings import ladder_for
from mill_lane.jobs.summary import summarise
from mill_lane.web.shared.context import AHome, Db, Done, file_stem
from mill_lane.web.shared.pages import station_page
from mill_lane.web.shared.station import Station
from mill_lane.web.stations.trim import taking, view
from mill_lane.web.stations.trim.compare import compared
from mill_lane.web.stations.trim.table import values_of
from mill_lane.work.kinds.export import CHANGED

router = APIRouter()
router.include_router(taking.router)


@router.get("/jobs/{job}/trim", include_in_schema=False)
def page(request: Request, db: Db, job: int) -> Response:
    """What trims propose, the ladder of savings, and the trim list."""
    c = station_page(request, db, job, "trim", "Trim")
    if isinstance(c, Response):
        return c
    asked = view.asked_in(request.query_params)
    return c.draw(
        **view.context(db, c.summary, asked),
        task=view.unfinished(trims.trim_task(db, c.summary.job)),
        versions=view.version_lines(versions.versions_of(db, c.summary.job)),
        exports=versions.exports_of(db, c.summary.job),
        downloads=[
            (f.name, f.download.title)
            for f in FORMATS
            if f.download
            and (c.summary.analysis.has_surfaces or not f.download.kept_as)
            and (c.summary.analysis.layered or not f.download.one_layer)
        ],
        changed=CHANGED,
        height=c.summary.height,
        compared=compared(db, c.summary, request.query_params.get("compare", "")),
    )


class Delivery(BaseModel):
    """The height in pixels of the largest picture that is delivered."""

    height: int


@router.put("/api/jobs/{job}/delivery")
def deliver(db: Db, job: int, form: Delivery) -> Done:
    """Trim for pictures of another size from now on."""
    delivery.deliver(db, find_job(db, job), form.height)
    return Done()


class AskForm(BaseModel):
    """A trim, and how its proposals are to be made: fields of its parameters."""

    model_config = {"extra": "allow"}

    trim: str


@router.post("/api/jobs/{job}/proposals")
def ask(db: Db, job: int, form: AskForm) -> Done:
    """Have it worked out what a trim proposes."""
    row = find_job(db, job)
    model = proposals.find_trim(form.trim).parameters_type
    values = values_of(model, form.model_extra or {})
    proposals.ask(db, row, form.trim, values)
    here = view.Asked(form.trim, values={k: v for k, v in values.items() if v is not False})
    return Done(go=f"/jobs/{job}/trim{here.link()}")


class StageForm(BaseModel):
    """What is to be staged, or taken off the list: targets of a trim's proposals, or all of
    them; of every trim where none is named.  With `by`, those of a group: see `core.trim.groups`.
    """

    model_config = {"extra": "allow"}

    trim: str = view.SIZES
    targets: list[str] = []
    stage: bool = True
    all: bool = False
    by: Annotated[str, Field(max_length=40)] = ""
    group: Annotated[str, Field(max_length=1000)] = ""


@router.post("/api/jobs/{job}/trim-list")
def stage(db: Db, job: int, form: StageForm) -> Done:
    """Put proposals on the trim list, or take them off."""
    row = find_job(db, job)
    version = find_version(db, row)
    extra = form.model_extra or {}
    if form.by:
        names = [form.trim] if form.trim else TRIMS.names
        one = proposals.find_trim(form.trim).parameters_type if form.trim else None
        values = values_of(one, extra) if one is not None else {}
        trims.stage_group(db, row, names, values, form.by, form.group, form.stage)
        costs.keep_up(db, row, version, trims.staged_choices(db, version))
        return Done()
    names = [form.trim] if form.trim else TRIMS.names
    for name in names:
        model = proposals.find_trim(name).parameters_type
        found = proposals.propose(db, row, name, values_of(model, form.model_extra or {})).found
        wanted = [p for p in found if form.all or p.target.key in form.targets]
        if form.stage:
            trims.stage(db, version, wanted)
        elif form.all:
            trims.unstage(db, version, name, [p.target.key for p in wanted])
        else:
            trims.unstage(db, version, name, form.targets)
    costs.keep_up(db, row, version, trims.staged_choices(db, version))
    return Done()


class EntryForm(BaseModel):
    """A target of a trim, and fields of its choice."""

    model_config = {"extra": "allow"}

    trim: str
    target: str


@router.put("/api/jobs/{job}/trim-list")
def stage_otherwise(db: Db, job: int, form: EntryForm) -> Done:
    """Stage a proposal with other parameters than were proposed."""
    row = find_job(db, job)
    version = find_version(db, row)
    trim = proposals.find_trim(form.trim)
    if trims.entry_of(db, version, form.trim, form.target) is None:
        found = proposals.propose(db, row, form.trim).found
        trims.stage(db, version, [p for p in found if p.target.key == form.target])
    entry = trims.entry_of(db, version, form.trim, form.target)
    if entry is None:
        raise NotFoundError("proposal for that target")
    trims.restage(db, entry, values_of(trim.choice_type, form.model_extra or {}))
    costs.keep_up(db, row, version, trims.staged_choices(db, version))
    return Done(go=f"/jobs/{job}/trim{view.Asked(form.trim).link()}")


class CostForm(BaseModel):
    """What is to be measured: one entry of the trim list, or all of them."""

    trim: str = ""
    target: str = ""


@router.post("/api/jobs/{job}/visible-costs")
def measure(db: Db, job: int, form: CostForm) -> Done:
    """Have it measured what staged changes change in the picture."""
    row = find_job(db, job)
    version = find_version(db, row)
    if form.trim:
        choices = trims.choices_for(db, row, version, form.trim, form.target)
        costs.measure(db, row, version, choices)
        return Done(go=f"/jobs/{job}/trim?look={quote(f'{form.trim}/{form.target}')}")
    costs.measure_staged(db, row, version, trims.staged_choices(db, version))
    return Done(go=f"/jobs/{job}/trim?look={costs.TOGETHER}")


@router.post("/api/jobs/{job}/visible-costs/stop")
def stop_measuring(db: Db, job: int) -> Done:
    """Stop all looks that are taken or wait; what was measured stays."""
    row = find_job(db, job)
    costs.stop_all(db, find_version(db, row))
    return Done()


@router.get("/jobs/{job}/crops/{task}/{crop}/{which}.png", include_in_schema=False)
def crop(db: Db, home: AHome, job: int, task: int, crop: int, which: str) -> Response:
    """A crop before or after what is staged, or the difference."""
    path = costs.crop_picture(db, home, find_job(db, job), task, crop, which)
    return FileResponse(path, media_type="image/png")


@router.post("/api/jobs/{job}/trim-list/down-to-line")
def stage_down(db: Db, job: int) -> Done:
    """Stage what the ladder of savings needs to bring the scene under what the device has."""
    row = find_job(db, job)
    version = find_version(db, row)
    trims.stage_down(db, version, ladder_for(db, summarise(db, row, version)))
    costs.keep_up(db, row, version, trims.staged_choices(db, version))
    return Done()


@router.post("/api/jobs/{job}/trim")
def apply(db: Db, job: int) -> Done:
    """Make a new scene version with the staged changes; the old one stays."""
    row = find_job(db, job)
    version = find_version(db, row)
    trims.apply_list(db, row)
    costs.stop_all(db, version)  # what is applied needs no looks any more
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
    what = " " + found.payload["format"] if found.payload["format"] in CHANGED else ""
    return FileResponse(
        home.files.path(found.result["export"]["hash"]),
        media_type=formats[0].media_type if formats else "application/octet-stream",
        filename=f"{file_stem(row.name)} v{found.payload['number']}{what}.{ending}",
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
