"""How a frame gets rendered: recipe, device, and means that take less memory; what that holds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from mill_lane.core.devices.model import Device
from mill_lane.core.plan.parts import REST_SIDE, images_of
from mill_lane.core.recipe import Recipe
from mill_lane.core.trim.pictures import with_rows
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.ledger import Ledger, draw_up, judge
from mill_lane.core.weigh.rules.sizes import shrunk


class Means(BaseModel):
    """What takes less memory beside recipe and device.

    Attributes
    ----------
    sizes : dict
        The longest side, pixels, of textures that are made smaller, by image.
    strips : int
        Into how many strips the frame is cut; each is rendered and put aside before the next.
    parts : tuple of tuples of int
        Meshes whose objects are rendered one group at a time, the others hidden from the camera;
        none: all together.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    sizes: dict[int, Annotated[int, Field(ge=1)]] = {}
    strips: Annotated[int, Field(ge=1, le=64)] = 1
    parts: tuple[tuple[int, ...], ...] = ()

    @property
    def pieces(self) -> int:
        """Into how many pieces a frame is cut."""
        return self.strips * max(1, len(self.parts))

    def sizes_of(self, images: Mapping[int, set[int]], part: int) -> dict[int, int]:
        """The longest sides of textures while a part is rendered: small where only others use it.

        Parameters
        ----------
        images : mapping
            Images that a mesh uses, by mesh.
        part : int
        """
        own = {i for mesh in self.parts[part] for i in images.get(mesh, set())}
        others = {i for used in images.values() for i in used} - own
        return {i: min(self.sizes.get(i, REST_SIDE), REST_SIDE) for i in others} | {
            i: side for i, side in self.sizes.items() if i not in others
        }


@dataclass(frozen=True)
class Way:
    """A way to render a frame, and what it would hold.

    Attributes
    ----------
    analysis : Analysis
        Of the scene as it is.
    recipe : Recipe
    device : Device
    means : Means
    cpu : Device or None
        The processor, where the device is a card.
    far_m : float
        Metres beyond which textures may get smaller.
    """

    analysis: Analysis
    recipe: Recipe
    device: Device
    means: Means = field(default_factory=Means)
    cpu: Device | None = None
    far_m: float = 0.0

    @cached_property
    def ledger(self) -> Ledger:
        """What it holds when it holds the most."""
        height = -(-self.recipe.height // self.means.strips)
        size = self.recipe.width, height
        if not self.means.parts:
            seen = with_sizes(self.analysis, self.means.sizes)
            return draw_up(seen, self.recipe, self.device, size)
        images = images_of(self.analysis)
        every = (
            draw_up(
                with_sizes(self.analysis, self.means.sizes_of(images, k)),
                self.recipe,
                self.device,
                size,
            )
            for k in range(len(self.means.parts))
        )
        return max(every, key=lambda ledger: ledger.whole)

    @property
    def fits(self) -> bool:
        """Whether it fits its device."""
        return judge(self.ledger, self.device.free_bytes).fits

    @property
    def over(self) -> int:
        """Bytes that it needs beyond what its device has; below zero, what would be left."""
        return self.ledger.whole - self.device.free_bytes

    @property
    def held(self) -> int:
        """Bytes that are held to the end, without what is needed for a moment."""
        return sum(s.bytes for s in self.ledger.steps if not s.name.endswith("for a moment"))

    def with_means(self, **changed: object) -> Way:
        """The same with other means."""
        return replace(self, means=Means.model_validate(self.means.model_dump() | changed))


def with_sizes(analysis: Analysis, sizes: Mapping[int, int]) -> Analysis:
    """The analysis with textures halved until their longer sides are within sizes, by image."""
    rows = {}
    for t in analysis.textures:
        if t.index in sizes and t.memory_bytes:
            (width, height), held = shrunk(t, sizes[t.index])
            changed = {"width": width, "height": height, "memory_bytes": held}
            rows[t.index] = t.model_copy(update=changed)
    return with_rows(analysis, rows) if rows else analysis
