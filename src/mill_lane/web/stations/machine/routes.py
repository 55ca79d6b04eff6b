"""The Machine station: devices, and memory profiles of other renderers."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Body, Request
from fastapi.responses import Response
from pydantic import BaseModel, Field

from mill_lane.core.devices.cpu import find_machine, held_by_others
from mill_lane.core.devices.kinds import CARD, DEVICE_KINDS
from mill_lane.core.devices.model import GB
from mill_lane.core.weigh.ledger import draw_up, judge
from mill_lane.jobs import devices
from mill_lane.jobs import profiles as service
from mill_lane.jobs.lookup import device_of, find_job
from mill_lane.jobs.lookup import devices as all_devices
from mill_lane.jobs.summary import Summary
from mill_lane.store.models import DeviceRow
from mill_lane.web.shared.context import Db, Done
from mill_lane.web.shared.format import gigabytes
from mill_lane.web.shared.pages import station_page
from mill_lane.web.shared.station import Figure, Station
from mill_lane.web.stations.machine import profiles
from mill_lane.web.stations.machine.view import DeviceLine, profile_sheet

router = APIRouter()
router.include_router(profiles.router)


@router.get("/jobs/{job}/machine", include_in_schema=False)
def page(
    request: Request,
    db: Db,
    job: int,
    edit: int | None = None,
    removed: int | None = None,
    profile: int | None = None,
) -> Response:
    """This computer and simulated cards, with room for this job or not."""
    c = station_page(request, db, job, "machine", "Machine")
    if isinstance(c, Response):
        return c
    s = c.summary
    lines = []
    for row in all_devices(db):
        device = device_of(row)
        verdict = judge(draw_up(s.analysis, s.final, device), device.free_bytes)
        lines.append(DeviceLine(row, device, verdict))
    gone = db.get(DeviceRow, removed) if removed else None
    every = service.profiles(db)
    chosen = next((p for p in every if p.id == profile), None)
    return c.draw(
        machine=find_machine(),
        held=held_by_others(),
        rows=lines,
        addable=[k for k in DEVICE_KINDS if k.addable],
        edit=edit,
        profiles=every,
        most=max(x.device.memory_bytes for x in lines),
        gone=gone if gone is not None and gone.removed else None,
        profile=profile_sheet(chosen, service.logged(chosen)) if chosen else None,
    )


class DeviceForm(BaseModel):
    """A device as the page has it: sizes in GB."""

    kind: Annotated[str, Field(max_length=40)] = CARD.name
    name: Annotated[str, Field(min_length=1, max_length=80)]
    memory_gb: Annotated[float, Field(gt=0, le=10000, title="Memory")]
    desktop_gb: Annotated[float, Field(ge=0, le=10000, title="Kept for the desktop")] = 0
    threads_free: Annotated[int, Field(ge=0, le=4095)] = 1
    samples_in_flight: Annotated[int, Field(ge=0, le=10**9)] = 262_144

    def settings(self) -> devices.Settings:
        """The same in bytes."""
        return devices.Settings(
            self.name,
            round(self.memory_gb * GB),
            round(self.desktop_gb * GB),
            self.threads_free,
            self.samples_in_flight,
        )


@router.post("/api/jobs/{job}/devices")
def add_device(db: Db, job: int, form: DeviceForm) -> Done:
    """Add a device of a kind, and choose it."""
    devices.add(db, find_job(db, job), form.kind, form.settings())
    return Done()


@router.put("/api/devices/{device}")
def edit_device(db: Db, device: int, form: DeviceForm) -> Done:
    """Change what can be set of a device."""
    devices.edit(db, device, form.settings())
    return Done()


@router.delete("/api/devices/{device}")
def remove_device(db: Db, device: int) -> Done:
    """Take a simulated card away; jobs that used it go back to the CPU."""
    devices.remove(db, device)
    return Done()


@router.post("/api/devices/{device}/restore")
def restore_device(db: Db, device: int) -> Done:
    """Undo a removal."""
    devices.restore(db, device)
    return Done()


@router.put("/api/jobs/{job}/device")
def choose_device(db: Db, job: int, device: Annotated[int, Body(embed=True)]) -> Done:
    """Choose what the job renders on."""
    devices.choose(db, find_job(db, job), device)
    return Done()


def figure(summary: Summary) -> Figure:
    """What the device has free."""
    return Figure(f"{gigabytes(summary.device.free_bytes)} free", "order")


MACHINE = Station("machine", "Machine", router, figure, Path(__file__).parent)
