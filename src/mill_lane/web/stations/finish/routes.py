"""The Finish station: the frame at full size, and what to look at before it starts."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Body, Request
from fastapi.responses import Response

from mill_lane.jobs import renders
from mill_lane.jobs.lookup import find_job, run_frames
from mill_lane.web.shared.context import Db, Done
from mill_lane.web.shared.pages import station_page
from mill_lane.web.shared.station import Station
from mill_lane.web.stations.finish import view

router = APIRouter()


@router.get("/jobs/{job}/finish", include_in_schema=False)
def page(request: Request, db: Db, job: int, run: int | None = None) -> Response:
    """The final recipe, and the frames that were rendered."""
    c = station_page(request, db, job, "finish", "Finish")
    if isinstance(c, Response):
        return c
    return c.draw(**view.context(db, c.summary, run_frames(db, c.summary.job), run))


@router.post("/api/jobs/{job}/runs")
def run_frame(db: Db, job: int, frame: Annotated[int, Body(embed=True)] = 1) -> Done:
    """Render a frame at full size with the final recipe."""
    renders.run_frame(db, find_job(db, job), frame)
    return Done()


FINISH = Station("finish", "Finish", router, view.figure, Path(__file__).parent)
