"""What-ifs of the Fit station, and memory profiles of the Machine station, as they are shown."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError

from mill_lane.core.devices.memory_profile import UNITS, Logged, MemoryProfile, predicted
from mill_lane.core.devices.model import GB, Device
from mill_lane.core.errors import MillError
from mill_lane.core.recipe import EVERY_LAYER, Recipe
from mill_lane.core.weigh.what_if import WhatIf


def asked_of(
    width: int | None,
    height: int | None,
    layers: str | None,
    flight: int | None,
    tile: int | None,
    lend: float,
    denoise: bool,
) -> WhatIf:
    """What the address asks; `layers` names them with commas, `lend` is in GB.

    Raises MillError for what cannot be.
    """
    names = None if layers is None else tuple(x for x in EVERY_LAYER if x in layers.split(","))
    try:
        return WhatIf(
            width=width,
            height=height,
            layers=names,
            flight=flight,
            tile=tile,
            lend=round(lend * GB),
            denoise=denoise,
        )
    except (ValidationError, ValueError, OverflowError) as e:
        raise MillError(
            "A figure of the what-if is out of range.", "Sizes go from 1 to 16,384 pixels."
        ) from e


@dataclass(frozen=True)
class Choice:
    """One of the things that can be asked for."""

    name: str
    label: str
    value: Any
    own: Any  # what it is without asking
    unit: str = ""
    step: str = "1"

    @property
    def changed(self) -> bool:
        return bool(self.value != self.own)


def what_if_sheet(asked: WhatIf, final: Recipe, device: Device, recipe: Recipe) -> list[Choice]:
    """The fields of the what-if."""
    out = [
        Choice("width", "Width", recipe.width, final.width, "px"),
        Choice("height", "Height", recipe.height, final.height, "px"),
    ]
    if device.kind == "card":
        out += [
            Choice(
                "flight",
                "Samples in flight",
                asked.flight or device.samples_in_flight,
                device.samples_in_flight,
            ),
            Choice("tile", "Tile size", asked.tile or "", "", "px"),
            Choice("lend", "Lent system memory", f"{asked.lend / GB:g}", "0", "GB", "any"),
        ]
    return out


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


def profile_sheet(
    number: int, data: dict[str, Any], decided: list[Any], trials: list[tuple[int, Logged]]
) -> Sheet:
    """Lay a profile out with the residual of each trial."""
    profile = MemoryProfile.model_validate(data)
    figures = []
    for unit in UNITS:
        title = str(MemoryProfile.model_fields[unit].title)
        value = getattr(profile, unit)
        if unit == "fixed":
            figures.append(("fixed_gb", title, f"{value / GB:.4g}", "GB", unit in decided))
        else:
            figures.append((unit, title, f"{value:.4g}", "bytes", unit in decided))
    lines = [
        Line(
            k,
            t.note,
            t.load.triangles,
            t.load.pixels,
            t.load.samples,
            t.peak_bytes,
            predicted(profile, t.load),
        )
        for k, t in trials
    ]
    return Sheet(number, profile.name, figures, lines, bool(decided))
