"""Devices and memory profiles as the Machine station shows them."""

from __future__ import annotations

from dataclasses import dataclass

from mill_lane.core.devices.kinds import DEVICE_KINDS
from mill_lane.core.devices.memory_profile import UNITS, Logged, MemoryProfile, predicted
from mill_lane.core.devices.model import GB, Device
from mill_lane.core.weigh.ledger import Verdict
from mill_lane.store.models import DeviceRow, LoggedRow, ProfileRow


@dataclass(frozen=True)
class DeviceLine:
    """A device, and whether the job's final frame fits it."""

    row: DeviceRow
    device: Device
    verdict: Verdict

    @property
    def settings(self) -> tuple[str, ...]:
        """The fields of the device that can be set."""
        return DEVICE_KINDS[self.device.kind].settings


@dataclass(frozen=True)
class Line:
    """A logged trial against what the profile says of it."""

    number: int
    note: str
    triangles: float
    pixels: float
    samples: float
    peak: float
    predicted: float

    @property
    def residual(self) -> float:
        """What the profile says beyond what was logged, bytes."""
        return self.predicted - self.peak


@dataclass(frozen=True)
class Sheet:
    """A memory profile:

    figures as (name, title, value, unit, whether trials decided it), and its trials.
    """

    number: int
    name: str
    figures: list[tuple[str, str, str, str, bool]]
    lines: list[Line]
    decided: bool


def profile_sheet(row: ProfileRow, trials: list[tuple[LoggedRow, Logged]]) -> Sheet:
    """Lay a profile out with the residual of each trial."""
    profile = MemoryProfile.model_validate(row.data)
    figures = []
    for unit in UNITS:
        title = str(MemoryProfile.model_fields[unit].title)
        value = getattr(profile, unit)
        if unit == "fixed":
            figures.append(("fixed_gb", title, f"{value / GB:.4g}", "GB", unit in row.decided))
        else:
            figures.append((unit, title, f"{value:.4g}", "bytes", unit in row.decided))
    lines = [
        Line(
            k.id,
            t.note,
            t.load.triangles,
            t.load.pixels,
            t.load.samples,
            t.peak_bytes,
            predicted(profile, t.load),
        )
        for k, t in trials
    ]
    return Sheet(row.id, profile.name, figures, lines, bool(row.decided))
