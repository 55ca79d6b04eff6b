"""Devices: the ones found on this computer, and simulated ones."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.devices.kinds import DEVICE_KINDS
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


def _changed(old: Device, settings: Settings) -> Device:
    """The device with what can be set of its kind."""
    names = ("desktop_bytes", *DEVICE_KINDS[old.kind].settings)
    change = {name: getattr(settings, name) for name in names}
    return _made(old.model_dump() | change)


def _made(values: dict[str, Any]) -> Device:
    try:
        return Device.model_validate(values)
    except ValueError as e:
        raise _wrong(e) from e


def _wrong(e: ValueError) -> MillError:
    errors = getattr(e, "errors", None)
    text = str(errors()[0]["msg"]) if errors else str(e)
    said = text.removeprefix("Value error, ")
    return MillError(f"{said}.", "Change the figures and save again.")


def add(db: Session, job: Job, kind: str, settings: Settings) -> DeviceRow:
    """Add a device of a kind, and choose it for a job.

    Raises
    ------
    MillError
        Where devices of this kind are not added by hand, or the figures do not go together.
    """
    if kind not in DEVICE_KINDS or not DEVICE_KINDS[kind].addable:
        offered = ", ".join(k.name for k in DEVICE_KINDS if k.addable)
        raise MillError(
            f"No device of the kind “{kind}” can be added.",
            f"Choose from {offered}.",
        )
    values = {name: getattr(settings, name) for name in DEVICE_KINDS[kind].settings}
    device = _made(
        {"kind": kind, "name": settings.name, "memory_bytes": settings.memory_bytes}
        | {"desktop_bytes": settings.desktop_bytes}
        | values
    )
    row = DeviceRow(data=device.model_dump(mode="json"))
    db.add(row)
    db.flush()
    job.device_id = row.id
    return row


def edit(db: Session, number: int, settings: Settings) -> None:
    """Change what can be set of a device, by its kind."""
    row = find_device(db, number)
    row.data = _changed(device_of(row), settings).model_dump(mode="json")


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
