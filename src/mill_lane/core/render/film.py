"""Where samples add up: sums of light and of its square, and the planes that layers need."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import scipy.ndimage
from numpy.typing import NDArray

from mill_lane.core.render import slots as s
from mill_lane.core.render.layers import check_layers, planes_of
from mill_lane.core.render.noise_map import noise_map

F32 = NDArray[np.float32]
ALWAYS = {
    "light": s.F_LIGHT,
    "luma": s.F_LUMA,
    "samples": s.F_SAMPLES,
    "active": s.F_ACTIVE,
}


@dataclass(frozen=True, eq=False)
class Film:
    """Sums over a region of H x W pixels.

    Attributes
    ----------
    light : array of float32, (H, W, 3)
    luma : array of float32, (H, W, 2)
        The luminance and its square.
    samples : array of uint32, (H, W)
    active : array of uint8, (H, W)
        1 where more samples are wanted.
    kept : mapping
        The planes that the layers of the recipe need, by name: float32, (H, W) or (H, W, C).
    slots : mapping
        Where each of those stands in the film table.
    table : array of int64
        Addresses of all planes, as the kernels read them (`slots.F_`); 0 for one that is not kept.
    """

    light: F32
    luma: F32
    samples: NDArray[np.uint32]
    active: NDArray[np.uint8]
    kept: Mapping[str, F32]
    slots: Mapping[str, int]
    table: NDArray[np.int64] = field(init=False)

    def __post_init__(self) -> None:
        """Note where the planes lie."""
        table = np.zeros(s.FILM_SLOTS, np.int64)
        for name, plane in self.planes().items():
            slot = ALWAYS[name] if name in ALWAYS else self.slots[name]
            table[slot] = plane.ctypes.data if plane.size else 0
        object.__setattr__(self, "table", table)

    def planes(self) -> dict[str, NDArray[Any]]:
        """All planes that are kept, by name."""
        return {name: getattr(self, name) for name in ALWAYS} | dict(self.kept)

    def __contains__(self, plane: object) -> bool:
        """Whether a plane is kept."""
        return plane in self.kept

    def __getitem__(self, plane: str) -> F32:
        """The sums of a plane that is kept; KeyError for another."""
        return self.kept[plane]


def new_film(width: int, height: int, layers: Sequence[str], light_count: int = 0) -> Film:
    """Make an empty film.

    Parameters
    ----------
    width, height : int
        Pixels of the region.
    layers : sequence of str
        Names of `layers.LAYERS`.
    light_count : int
        Lights of the scene, for the layer that keeps each.

    Raises
    ------
    MillError
        For a layer that there is none of.
    """
    check_layers(layers)
    planes = planes_of(layers)
    kept = {}
    for name, plane in planes.items():
        depth = plane.depth(light_count)
        shape = (height, width) if plane.channels == 1 else (height, width, depth)
        kept[name] = np.zeros(shape, np.float32)
    return Film(
        np.zeros((height, width, 3), np.float32),
        np.zeros((height, width, 2), np.float32),
        np.zeros((height, width), np.uint32),
        np.ones((height, width), np.uint8),
        kept,
        {name: plane.slot for name, plane in planes.items()},
    )


def film_noise(film: Film) -> F32:
    """The noise map of what is on a film (`noise_map`)."""
    return noise_map(film.luma, film.samples)


def dilate(mask: NDArray[np.bool_], reach: int = 2) -> NDArray[np.bool_]:
    """Grow a mask by `reach` pixels in each direction, (H, W)."""
    square = np.ones((2 * reach + 1, 2 * reach + 1), bool)
    return np.asarray(scipy.ndimage.binary_dilation(mask, square))
