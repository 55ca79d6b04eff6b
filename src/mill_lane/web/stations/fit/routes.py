"""The Fit station: the memory ledger against the device, and what-ifs that move it."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Depends, Request
from fastapi.responses import Response

from mill_lane.core.devices.memory_profile import MemoryProfile
from mill_lane.jobs.lookup import device_of, devices
from mill_lane.jobs.profiles import profiles
from mill_lane.web.shared.context import Db
from mill_lane.web.shared.pages import station_page
from mill_lane.web.shared.station import Station
from mill_lane.web.stations.fit import view

router = APIRouter(include_in_schema=False)


@router.get("/jobs/{job}/fit")
def page(request: Request, db: Db, job: int, asked: Annotated[view.Asked, Depends()]) -> Response:
    """What a final frame needs, and what the device has."""
    c = station_page(request, db, job, "fit", "Fit")
    if isinstance(c, Response):
        return c
    every = profiles(db)
    row = next((p for p in every if p.id == asked.profile), None)
    other = MemoryProfile.model_validate(row.data) if row else None
    others = [device_of(r) for r in devices(db) if r.id != c.summary.job.device_id]
    more = view.context(db, c.summary, asked, other, others)
    return c.draw(**more, profiles=every, profile=row)


FIT = Station("fit", "Fit", router, view.figure, Path(__file__).parent)
