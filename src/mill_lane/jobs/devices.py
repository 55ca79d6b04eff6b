"""Devices: this computer's own, and simulated cards."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.devices.model import Device
from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.jobs.lookup import device_of, find_device, own_cpu
from mill_lane.store.models import DeviceRow, Job


@dataclass(frozen=True)
class Settings:
    """What can be set of a device, in bytes."""

    name: str
    memory_bytes: int
    desktop_bytes: int = 0
    threads_free: int = 1
    samples_in_flight: int = 262_144


def card(settings: Settings) -> Device:
    """A simulated card.  Raises MillError where its figures do not go together."""
    try:
        return Device(
            name=settings.name,
            kind="card",
            memory_bytes=settings.memory_bytes,
            desktop_bytes=settings.desktop_bytes,
            samples_in_flight=settings.samples_in_flight,
        )
    except ValueError as e:
        raise _wrong(e) from e


def _wrong(e: ValueError) -> MillError:
    errors = getattr(e, "errors", None)
    text = str(errors()[0]["msg"]) if errors else str(e)
    said = text.removeprefix("Value error, ")
    return MillError(f"{said}.", "Change the figures and save again.")


def add_card(db: Session, job: Job, settings: Settings) -> DeviceRow:
    """Add a simulated card, and choose it for a job."""
    row = DeviceRow(data=card(settings).model_dump(mode="json"))
    db.add(row)
    db.flush()
    job.device_id = row.id
    return row


def edit(db: Session, number: int, settings: Settings) -> None:
    """Change a device; of the computer's own CPU only what is kept free can be changed."""
    row = find_device(db, number)
    old = device_of(row)
    if old.kind == "card":
        row.data = card(settings).model_dump(mode="json")
        return
    kept = {"desktop_bytes": settings.desktop_bytes, "threads_free": settings.threads_free}
    try:
        new = Device.model_validate(old.model_copy(update=kept).model_dump())
    except ValueError as e:
        raise _wrong(e) from e
    row.data = new.model_dump(mode="json")


def remove(db: Session, number: int) -> None:
    """Take a simulated card away; jobs that used it go back to the CPU."""
    row = find_device(db, number)
    if row.found:
        raise MillError(
            "This computer's own CPU cannot be removed.", "Choose another device instead."
        )
    row.removed = True
    cpu = own_cpu(db)
    for job in db.scalars(select(Job).where(Job.device_id == row.id)):
        job.device_id = cpu.id


def restore(db: Session, number: int) -> None:
    """Undo a removal."""
    row = db.get(DeviceRow, number)
    if row is None:
        raise NotFoundError("device of that number")
    row.removed = False


def choose(db: Session, job: Job, number: int) -> None:
    """Choose what a job renders on."""
    job.device_id = find_device(db, number).id
