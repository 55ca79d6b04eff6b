"""What-ifs of the Fit station, and where the figures of the ledger come from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError
from sqlalchemy.orm import Session

from mill_lane.core.denoise.sizes import denoise_bytes
from mill_lane.core.devices.memory_profile import MemoryProfile
from mill_lane.core.devices.model import GB, Device
from mill_lane.core.errors import MillError
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.layers import LAYERS
from mill_lane.core.weigh.analysis import ACCELERATION_BYTES
from mill_lane.core.weigh.ledger import Verdict, judge
from mill_lane.core.weigh.what_if import WhatIf, reckon
from mill_lane.jobs.savings import ladder_for, usual_bytes
from mill_lane.jobs.summary import Summary
from mill_lane.web.shared.format import size
from mill_lane.web.shared.memory_bar import MemoryBar, memory_bar
from mill_lane.web.shared.recipe_form import CHOICES
from mill_lane.web.shared.rungs import ladder_view
from mill_lane.web.shared.station import Figure, Mark

CLOSE = 0.05  # of the free memory
BIGGEST = 8  # single things that are listed
OTHERS_WIDTH = 560  # pixels


@dataclass
class Asked:
    """What the address asks for; `layers` names them with commas, `lend` is in GB."""

    width: int | None = None
    height: int | None = None
    layers: str | None = None
    flight: int | None = None
    tile: int | None = None
    lend: float = 0.0
    denoise: str | None = None
    profile: int | None = None

    def what_if(self) -> WhatIf:
        """The same as a what-if.  Raises MillError for what cannot be."""
        names = None
        if self.layers is not None:
            wanted = self.layers.split(",")
            names = tuple(x for x in LAYERS.names if x in wanted)
        try:
            return WhatIf(
                width=self.width,
                height=self.height,
                layers=names,
                flight=self.flight,
                tile=self.tile,
                lend=round(self.lend * GB),
                denoise=self.denoise or None,
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
        """Whether it is asked otherwise than it is set."""
        return bool(self.value != self.own)


def what_if_sheet(asked: WhatIf, final: Recipe, device: Device, recipe: Recipe) -> list[Choice]:
    """The fields of the what-if."""
    out = [
        Choice("width", "Width", recipe.width, final.width, "px"),
        Choice("height", "Height", recipe.height, final.height, "px"),
    ]
    if device.batches:
        out += [
            Choice(
                "flight",
                "Samples in flight",
                asked.flight or device.samples_in_flight,
                device.samples_in_flight,
            ),
            Choice("tile", "Tile size", asked.tile or "", "", "px"),
            Choice("lend", "Lent memory", f"{asked.lend / GB:g}", "0", "GB", "any"),
        ]
    return out


@dataclass(frozen=True)
class Other:
    """Another device, and how the same would fit it."""

    device: Device
    bar: MemoryBar
    verdict: Verdict


def figure(summary: Summary) -> Figure:
    """What is left, or by how much it is over; a look where it is less than a twentieth."""
    v = summary.verdict
    spare = v.headroom / summary.device.free_bytes
    mark: Mark = "fail" if not v.fits else "look" if spare < CLOSE else "order"
    return Figure(f"{size(abs(v.headroom))} {'left' if v.fits else 'over'}", mark)


def context(
    db: Session, summary: Summary, asked: Asked, other: MemoryProfile | None, others: list[Device]
) -> dict[str, Any]:
    """All that the page needs beside what every station has."""
    a, final, own = summary.analysis, summary.final, summary.device
    what_if = asked.what_if()
    ledger, device = reckon(a, final, own, what_if, other)
    before, _ = reckon(a, final, own, WhatIf(), other)
    recipe = what_if.recipe(final)
    elsewhere = []
    for d in others:
        theirs, _ = reckon(a, final, d, what_if.model_copy(update={"lend": 0}), other)
        bar = memory_bar(theirs, d.free_bytes, OTHERS_WIDTH)
        elsewhere.append(Other(d, bar, judge(theirs, d.free_bytes)))
    rungs = ladder_for(db, summary, ledger.whole, device.free_bytes)
    return {
        "ledger": ledger,
        "device": device,
        "verdict": judge(ledger, device.free_bytes),
        "bar": memory_bar(ledger, device.free_bytes),
        "others": elsewhere,
        "sheet": what_if_sheet(what_if, final, own, recipe),
        "asked": what_if,
        "size": (recipe.width, recipe.height),
        "change": ledger.total - before.total,
        "usual": usual_bytes(db, summary, ledger),
        "other": other,
        "recipe": recipe,
        "final": final,
        "ladder": ladder_view(rungs, set()),
        "waits": any(not x.ready for x in summary.proposed),
        "biggest": sorted(ledger.steps, key=lambda s: -s.bytes)[:BIGGEST],
        "cleanings": CHOICES["denoise"],
        "denoise_bytes": denoise_bytes(recipe.width, recipe.height),
        "every_layer": LAYERS.names,
        "in_flight": what_if.in_flight(own, recipe.width * recipe.height),
        "sources": sources(recipe, device, other),
        "mapped": 0 if device.simulated or other is not None else ledger.mapped,
    }


def sources(recipe: Recipe, device: Device, other: MemoryProfile | None) -> dict[str, str]:
    """Where the figure of each kind of memory comes from."""
    where = f"{recipe.width} × {recipe.height}"
    if other is not None:
        layers = len(recipe.layers) + 1
        values = f"{other.value8:.3g} and {other.value16:.3g}"
        return {
            "geometry": f"{other.triangle:g} bytes a triangle",
            "textures": f"{values} bytes a value of 8 and 16 bits",
            "film": f"{other.pixel:g} bytes a pixel, {layers} layers at {where}",
            "in_flight": f"{other.sample:g} bytes a sample, and what is fixed",
            "denoise": f"{other.denoise:g} bytes a pixel",
        }
    return {
        "geometry": "sizes of the arrays, and 600 bytes estimated for each placed copy",
        "acceleration": f"estimated: {ACCELERATION_BYTES:g} bytes a triangle",
        "textures": "sizes of the arrays, with mip levels",
        "environment": "sizes of the arrays",
        "film": f"layers at {where}, and what measuring the noise takes",
        "in_flight": "120 bytes a path" if device.batches else "64 paths for each thread",
        "denoise": "measured on other pictures; what goes beyond film and samples, then let go",
    }
