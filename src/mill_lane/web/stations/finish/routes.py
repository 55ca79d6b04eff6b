"""The Finish station: the frame at full size, and what to look at before it starts."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Body, Request
from fastapi.responses import FileResponse, Response

from mill_lane.jobs import renders
from mill_lane.jobs.denoising import clean_file, denoise_trial
from mill_lane.jobs.lookup import find_job, find_render, run_frames
from mill_lane.web.shared.context import AHome, Db, Done
from mill_lane.web.shared.pages import station_page
from mill_lane.web.shared.station import Station
from mill_lane.web.stations.finish import files, night, view

router = APIRouter()
router.include_router(files.router)
router.include_router(night.router)


@router.get("/jobs/{job}/finish", include_in_schema=False)
def page(
    request: Request,
    db: Db,
    job: int,
    run: int | None = None,
    layer: str = "beauty",
    gone: int | None = None,
) -> Response:
    """The final recipe, and the frames that were rendered."""
    c = station_page(request, db, job, "finish", "Finish")
    if isinstance(c, Response):
        return c
    return c.draw(**view.context(db, c.summary, run_frames(db, c.summary.job), run, layer, gone))


@router.post("/api/jobs/{job}/runs")
def run_frame(db: Db, job: int, frame: Annotated[int, Body(embed=True)] = 1) -> Done:
    """Render a frame at full size with the final recipe."""
    renders.run_frame(db, find_job(db, job), frame)
    return Done()


@router.post("/api/frames/{frame}/denoise")
def denoise_frame(db: Db, frame: int) -> Done:
    """Take the noise out of a frame that is done; what it was stays."""
    denoise_trial(db, find_render(db, frame, "frame"))
    return Done()


@router.get("/frames/{frame}/denoised.exr", include_in_schema=False)
def denoised_frame(db: Db, home: AHome, frame: int) -> FileResponse:
    """The clean light of a denoised frame, with the raw one and the maps beside it."""
    row = find_render(db, frame, "frame")
    path, _ = clean_file(home, row)
    name = f"frame {row.frame:04d} denoised.exr"
    return FileResponse(path, media_type="image/x-exr", filename=name)


FINISH = Station("finish", "Finish", router, view.figure, Path(__file__).parent)
