"""Where samples add up: sums of light and of its square, features of the first surface, samples per pixel."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.noise import WINDOW, relative_error
from mill_lane.core.recipe import Layer


class Film(NamedTuple):
    """float32 sums over a region of H x W pixels; features that are not kept have no pixels."""

    light: NDArray[np.float32]  # (H, W, 3)
    luma: NDArray[np.float32]  # (H, W, 2) luminance and its square
    samples: NDArray[np.uint32]  # (H, W)
    albedo: NDArray[np.float32]  # (H, W, 3) or (0, 0, 3)
    normal: NDArray[np.float32]
    depth: NDArray[np.float32]  # (H, W) or (0, 0)


def new_film(width: int, height: int, layers: Sequence[Layer]) -> Film:
    """An empty film of a region."""

    def plane(name: Layer, *depth: int) -> NDArray[np.float32]:
        size = (height, width) if name in layers else (0, 0)
        return np.zeros((*size, *depth), np.float32)

    return Film(
        np.zeros((height, width, 3), np.float32),
        np.zeros((height, width, 2), np.float32),
        np.zeros((height, width), np.uint32),
        plane("albedo", 3),
        plane("normal", 3),
        plane("depth"),
    )


def resolve(film: Film, layers: Sequence[Layer] = ()) -> dict[str, NDArray[Any]]:
    """Mean pictures by layer name, float32; pixels without a sample are black."""
    n = np.maximum(film.samples, 1).astype(np.float32)
    out: dict[str, NDArray[Any]] = {"beauty": film.light / n[..., None]}
    for name in layers:
        if name == "samples":
            out[name] = film.samples.astype(np.float32)
        else:
            plane = getattr(film, name)
            out[name] = plane / (n[..., None] if plane.ndim == 3 else n)
    return out


BAND = 128  # rows at a time, so that measuring a large picture takes little memory


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
