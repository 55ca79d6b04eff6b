"""The picture that a scene has for a sky, brought into the axes of the world."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.sky_pictures import dome_pixels
from mill_lane.core.scene.surroundings import SkyPicture

ROWS = 64  # of a picture that is turned at once


def sky_pixels(picture: SkyPicture) -> NDArray[np.float32]:
    """Radiance by longitude over latitude as the renderer reads it, float32 (H, W, 3).

    The first column begins at +X, and longitudes run by way of +Z.

    Raises MillError where the picture is damaged.
    """
    pixels = dome_pixels(picture)
    axes = np.array(picture.axes, float).reshape(3, 3)
    if abs(axes[1, 1] - 1.0) < 1e-9 and np.linalg.det(axes) > 0:
        pixels = _rolled(pixels, axes)
    else:
        pixels = _turned(pixels, axes)
    if picture.tint != (1.0, 1.0, 1.0):
        pixels *= np.array(picture.tint, np.float32)
    return np.ascontiguousarray(pixels)


def _rolled(pixels: NDArray[np.float32], axes: NDArray[np.float64]) -> NDArray[np.float32]:
    """Turned about the vertical alone: whole pixels stay as they are."""
    width = pixels.shape[1]
    # Where +X of the world, the renderer's first edge, lies in the picture.
    shift = (0.5 - np.arctan2(axes[0, 0], axes[2, 0]) / (2 * np.pi)) * width % width
    whole = int(np.floor(shift + 1e-6))
    rest = np.float32(max(shift - whole, 0.0))
    out = np.roll(pixels, -whole, axis=1)
    if rest > 1e-5:
        out = out * (np.float32(1.0) - rest) + np.roll(out, -1, axis=1) * rest
    return out


def _turned(pixels: NDArray[np.float32], axes: NDArray[np.float64]) -> NDArray[np.float32]:
    """Turned in any way, read bilinearly."""
    height, width, _ = pixels.shape
    out = np.empty_like(pixels)
    phi = 2 * np.pi * (np.arange(width) + 0.5) / width
    for first in range(0, height, ROWS):
        theta = np.pi * (np.arange(first, min(first + ROWS, height)) + 0.5)[:, None] / height
        d = np.stack(
            [
                np.sin(theta) * np.cos(phi),
                np.broadcast_to(np.cos(theta), (len(theta), width)),
                np.sin(theta) * np.sin(phi),
            ],
            -1,
        )
        x, y, z = np.moveaxis(d @ axes.T, -1, 0)
        u = (0.5 - np.arctan2(x, z) / (2 * np.pi)) * width - 0.5
        v = np.arccos(np.clip(y, -1, 1)) / np.pi * height - 0.5
        column, row = np.floor(u), np.floor(v)
        a, b = (u - column)[..., None].astype(np.float32), (v - row)[..., None].astype(np.float32)
        left, right = column.astype(np.int64) % width, (column.astype(np.int64) + 1) % width
        upper = np.clip(row.astype(np.int64), 0, height - 1)
        lower = np.clip(row.astype(np.int64) + 1, 0, height - 1)
        above = pixels[upper, left] * (1 - a) + pixels[upper, right] * a
        below = pixels[lower, left] * (1 - a) + pixels[lower, right] * a
        out[first : first + len(theta)] = above * (1 - b) + below * b
    return out
