"""The station's page, and its figure in the strip."""

from __future__ import annotations

from pathlib import Path

from fastapi import APIRouter, Request
from fastapi.responses import Response

from mill_lane.jobs.summary import Summary
from mill_lane.web.shared.context import Db
from mill_lane.web.shared.pages import station_page
from mill_lane.web.shared.station import Figure, Station

router = APIRouter()


@router.get("/jobs/{job}/shelf")
def page(request: Request, db: Db, job: int) -> Response:
    """Draw what stands on the shelf."""
    c = station_page(request, db, job, "shelf", "Shelf")
    return c if isinstance(c, Response) else c.draw(jars=["rye", "spelt"])


def figure(summary: Summary) -> Figure:
    """How many jars."""
    return Figure("2 jars", "order")


SHELF = Station("shelf", "Shelf", router, figure, Path(__file__).parent)
