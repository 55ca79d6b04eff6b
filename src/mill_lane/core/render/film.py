"""Where samples add up:

sums of light and of its square, features of the first surface, light components, work.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.noise import WINDOW, relative_error
from mill_lane.core.recipe import Layer
from mill_lane.core.render import slots as s

COMPONENTS = s.COMPONENTS
Plane = NDArray[np.float32]
BAND = 128  # rows at a time, so that measuring a large picture takes little memory


@dataclass(frozen=True, eq=False)
class Film:
    """float32 sums over a region of H x W pixels; planes that are not kept have no pixels."""

    light: Plane  # (H, W, 3)
    luma: Plane  # (H, W, 2) luminance and its square
    samples: NDArray[np.uint32]  # (H, W)
    active: NDArray[np.uint8]  # (H, W) 1 where more samples are wanted
    albedo: Plane  # (H, W, 3)
    normal: Plane
    depth: Plane  # (H, W)
    position: Plane  # (H, W, 3)
    motion: Plane  # (H, W, 2)
    object: Plane  # (H, W), not a sum: the number of the first sample's object, 0 for none
    work: Plane  # (H, W)
    half_buffers: Plane  # (H, W, 3) the samples with even numbers
    components: Plane  # (H, W, 9, 3)
    lights: Plane  # (H, W, L, 3)
    table: NDArray[np.int64] = field(init=False)

    def __post_init__(self) -> None:
        table = np.array([p.ctypes.data if p.size else 0 for p in self.planes().values()], np.int64)
        object.__setattr__(self, "table", table)

    def planes(self) -> dict[str, NDArray[Any]]:
        """All planes by name, in the order of the film table (`slots.F_`)."""
        return {f.name: getattr(self, f.name) for f in fields(self) if f.name != "table"}


def new_film(width: int, height: int, layers: Sequence[Layer], light_count: int = 0) -> Film:
    """An empty film of a region of a scene with so many light_count."""

    def plane(name: Layer, *depth: int) -> Plane:
        size = (height, width) if name in layers else (0, 0)
        return np.zeros((*size, *depth), np.float32)

    return Film(
        np.zeros((height, width, 3), np.float32),
        np.zeros((height, width, 2), np.float32),
        np.zeros((height, width), np.uint32),
        np.ones((height, width), np.uint8),
        plane("albedo", 3),
        plane("normal", 3),
        plane("depth"),
        plane("position", 3),
        plane("motion", 2),
        plane("object"),
        plane("work"),
        plane("half_buffers", 3),
        plane("components", len(COMPONENTS), 3),
        plane("lights", light_count, 3),
    )


def resolve(
    film: Film, layers: Sequence[Layer] = (), light_names: Sequence[str] = ()
) -> dict[str, NDArray[Any]]:
    """All of `resolved` at once."""
    return dict(resolved(film, layers, light_names))


def resolved(
    film: Film, layers: Sequence[Layer] = (), light_names: Sequence[str] = ()
) -> Iterator[tuple[str, NDArray[Any]]]:
    """Mean pictures with their names, float32, one after another; pixels without a sample are
    black.

    `half_buffers` gives half_a and half_b, `components` one picture each, `lights` one a lamp (“light
    NAME”), `noise` the map of `noise_map`; `object` stays a number.
    """
    n = np.maximum(film.samples, 1).astype(np.float32)
    yield "beauty", film.light / n[..., None]
    for name in layers:
        if name == "samples":
            yield name, film.samples.astype(np.float32)
        elif name == "noise":
            yield name, noise_map(film)
        elif name == "object":
            yield name, film.object.copy()
        elif name == "half_buffers":
            first = (film.samples + 1) // 2
            yield "half_a", film.half_buffers / np.maximum(first, 1)[..., None].astype(np.float32)
            rest = np.maximum(film.samples - first, 1)[..., None].astype(np.float32)
            yield "half_b", (film.light - film.half_buffers) / rest
        elif name == "components":
            for i, component in enumerate(COMPONENTS):
                yield component, film.components[:, :, i] / n[..., None]
        elif name == "lights":
            for i in range(film.lights.shape[2]):
                label = light_names[i] if i < len(light_names) else str(i)
                yield f"light {label}", film.lights[:, :, i] / n[..., None]
        else:
            plane = getattr(film, name)
            yield name, plane / (n[..., None] if plane.ndim == 3 else n)


def noise_map(film: Film) -> NDArray[np.float32]:
    """Relative standard error per pixel, pooled (see `core.image.noise`), float32 (H, W)."""
    height = film.samples.shape[0]
    out = np.empty(film.samples.shape, np.float32)
    halo = WINDOW // 2
    for y in range(0, height, BAND):
        low, high = max(0, y - halo), min(height, y + BAND + halo)
        rows = slice(low, high)
        error = relative_error(film.luma[rows, :, 0], film.luma[rows, :, 1], film.samples[rows])
        end = min(height, y + BAND)
        out[y:end] = error[y - low : end - low]
    return out


def dilate(mask: NDArray[np.bool_], reach: int = 2) -> NDArray[np.bool_]:
    """A mask grown by `reach` pixels in each direction."""
    out = mask.copy()
    for axis in (0, 1):
        grown = out.copy()
        for k in range(1, reach + 1):
            head = [slice(None)] * 2
            tail = [slice(None)] * 2
            head[axis], tail[axis] = slice(None, -k), slice(k, None)
            grown[tuple(tail)] |= out[tuple(head)]
            grown[tuple(head)] |= out[tuple(tail)]
        out = grown
    return out
