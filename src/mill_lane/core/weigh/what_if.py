"""What a render would take if the picture, its layers, the samples in flight or the tiles were
others, or if system memory were lent; for the built-in renderer, and for others by their memory
profile.
"""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

from mill_lane.core.devices.memory_profile import Load, MemoryProfile
from mill_lane.core.devices.model import Device
from mill_lane.core.recipe import Denoised, Recipe
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.ledger import Ledger, Step, draw_up


class WhatIf(BaseModel):
    """What is asked; None leaves the recipe's or the device's own."""

    model_config = ConfigDict(frozen=True)

    width: Annotated[int | None, Field(ge=1, le=16384)] = None
    height: Annotated[int | None, Field(ge=1, le=16384)] = None
    layers: tuple[str, ...] | None = None
    flight: Annotated[int | None, Field(ge=1, le=10**9)] = None
    tile: Annotated[int | None, Field(ge=1, le=16384)] = None
    lend: Annotated[int, Field(ge=0, le=10**13)] = 0  # bytes of system memory
    denoise: Denoised | None = None

    def recipe(self, recipe: Recipe) -> Recipe:
        """The recipe with what is asked of the picture."""
        change: dict[str, Any] = {"width": self.width, "height": self.height, "layers": self.layers}
        change["denoise"] = self.denoise
        return recipe.model_copy(update={k: v for k, v in change.items() if v is not None})

    def in_flight(self, device: Device, pixels: int) -> int:
        """Samples in flight at once: what the device keeps, but never more than a tile has
        pixels.
        """
        wanted = self.flight or device.samples_in_flight
        return min(wanted, (self.tile or 10**9) ** 2, max(pixels, 1)) if wanted else 0

    def device(self, device: Device, pixels: int) -> Device:
        """The device with what is asked of it; what is lent counts as its own, and is slower."""
        change: dict[str, Any] = {"memory_bytes": device.memory_bytes + self.lend}
        if device.batches:
            change["samples_in_flight"] = self.in_flight(device, pixels)
        return device.model_copy(update=change)


def load_of(analysis: Analysis, recipe: Recipe, samples: int, denoise: bool) -> Load:
    """Count what a render holds, for a memory profile.

    Parameters
    ----------
    analysis : Analysis
    recipe : Recipe
    samples : int
        In flight.
    denoise : bool
        In the render.

    Returns
    -------
    Load
        Textures with their mip levels, layers with the beauty.
    """
    pixels = recipe.width * recipe.height
    values = {8: 0.0, 16: 0.0}
    for t in analysis.textures:
        if t.memory_bytes:
            values[16 if t.bits > 8 else 8] += t.width * t.height * t.channels
    triangles = sum(m.triangles for m in analysis.meshes)
    return Load(
        triangles=triangles,
        values8=values[8],
        values16=values[16],
        pixels=pixels * (1 + len(recipe.layers)),
        samples=samples,
        denoised=pixels if denoise else 0,
    )


def reckon(
    analysis: Analysis,
    recipe: Recipe,
    device: Device,
    asked: WhatIf,
    profile: MemoryProfile | None = None,
) -> tuple[Ledger, Device]:
    """Reckon a ledger as it would be.

    Parameters
    ----------
    analysis : Analysis
    recipe : Recipe
    device : Device
    asked : WhatIf
    profile : MemoryProfile, optional
        Of another renderer, which is then reckoned for.

    Returns
    -------
    ledger : Ledger
    device : Device
        As it would be.
    """
    recipe = asked.recipe(recipe)
    device = asked.device(device, recipe.width * recipe.height)
    if profile is None:
        return draw_up(analysis, recipe, device), device
    in_flight = asked.in_flight(device, recipe.width * recipe.height)
    load = load_of(analysis, recipe, in_flight, recipe.denoise == "with")
    steps = [
        Step("geometry", m.name, round(profile.triangle * m.triangles)) for m in analysis.meshes
    ]
    for t in sorted(analysis.textures, key=lambda t: -t.memory_bytes):
        if t.memory_bytes:
            each = profile.value16 if t.bits > 8 else profile.value8
            steps.append(Step("textures", t.name, round(each * t.width * t.height * t.channels)))
    steps.append(Step("film", "layers", round(profile.pixel * load.pixels)))
    steps.append(Step("in_flight", "samples in flight", round(profile.sample * load.samples)))
    steps.append(Step("in_flight", "fixed", round(profile.fixed)))
    if load.denoised:
        steps.append(Step("denoise", "denoiser", round(profile.denoise * load.denoised)))
    return Ledger(tuple(steps)), device
