"""Filters over small squares: means of variances, and guides freed of their own noise.

Sums are made pixel by pixel, not on the way along a row: a strip of a picture comes out to the bit
as within the whole.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.compiled import compiler_of
from mill_lane.core.denoise import patches
from mill_lane.core.denoise.patches import FAST, tiles_of, weigh_patches

F32 = NDArray[np.float32]
compiled = compiler_of(__file__, (patches.__file__,), **FAST)

PATCH = 1  # pixels to either side that are compared
RADIUS = 3  # pixels to either side that a guide learns from
SURE = 1e-8  # variance below which a guide is left as it is


def box_mean(planes: F32, radius: int) -> F32:
    """Means of planes (C, H, W) over squares of 2 `radius` + 1 pixels; edges are mirrored."""
    wide = np.pad(planes, ((0, 0), (radius, radius), (radius, radius)), "symmetric")
    out = np.empty(planes.shape, np.float32)
    _box(np.ascontiguousarray(wide, np.float32), radius, out)
    return out


def prefiltered(
    guides: F32,
    variances: F32,
    groups: tuple[int, ...],
    threads: int = 1,
    radius: int = RADIUS,
) -> F32:
    """Guides smoothed as far as their own variances tell; what is sure stays as it is.

    Parameters
    ----------
    guides, variances : float32 arrays (G, H, W)
    groups : tuple of int
        How many planes each guide has; those of one are compared together.
    threads : int
    radius : int
        Pixels to either side that a guide learns from.

    Notes
    -----
    Non-local means of each guide by itself (Rousselle, Manzi and Zwicker 2013).
    """
    out = guides.copy()
    edge = radius + PATCH
    first = 0
    for count in groups:
        planes = slice(first, first + count)
        first += count
        if count == 0 or variances[planes].max(initial=0.0) <= SURE:
            continue
        pooled = box_mean(variances[planes], 1)
        wide, spread = (
            np.ascontiguousarray(np.pad(x, ((0, 0), (edge, edge), (edge, edge)), "symmetric"))
            for x in (guides[planes], pooled)
        )
        _in_tiles(wide, spread, out[planes], edge, threads)
    return out


def _in_tiles(wide: F32, spread: F32, out: F32, edge: int, threads: int) -> None:
    def one(tile: tuple[int, int, int, int]) -> None:
        y0, y1, x0, x1 = tile
        if spread[:, y0 + edge : y1 + edge, x0 + edge : x1 + edge].max() > SURE:
            _smooth(wide, spread, tile, edge, out)

    with ThreadPoolExecutor(max(1, threads)) as pool:
        list(pool.map(one, tiles_of(*out.shape[1:])))


@compiled
def _smooth(wide: Any, spread: Any, tile: Any, edge: int, out: Any) -> None:
    radius = edge - PATCH
    y0, y1, x0, x1 = tile
    height, width = y1 - y0, x1 - x0
    apart = np.empty((height + 2 * PATCH, width + 2 * PATCH), np.float32)
    rows = np.empty((height + 2 * PATCH, width), np.float32)
    weights = np.empty((height, width), np.float32)
    sums = np.zeros((wide.shape[0], height, width), np.float32)
    total = np.zeros((height, width), np.float32)
    y, x = y0 + edge, x0 + edge
    bounds = (1.0, SURE)
    for dy in range(-radius, radius + 1):
        for dx in range(-radius, radius + 1):
            place = (y, x, dy, dx)
            weigh_patches(wide, spread, (wide, spread), bounds, place, rows, apart, weights)
            for j in range(height):
                near, all_of_it = weights[j], total[j]
                for i in range(width):
                    all_of_it[i] += near[i]
                for c in range(wide.shape[0]):
                    line, there = sums[c, j], wide[c, y + j + dy, x + dx :]
                    for i in range(width):
                        line[i] += near[i] * there[i]
    for c in range(wide.shape[0]):
        for j in range(height):
            for i in range(width):
                if spread[c, y + j, x + i] > SURE:
                    out[c, y0 + j, x0 + i] = sums[c, j, i] / total[j, i]


@compiled
def _box(wide: Any, radius: int, out: Any) -> None:
    side = 2 * radius + 1
    height, width = out.shape[1:]
    share = np.float32(1.0 / (side * side))
    rows = np.empty((height + 2 * radius, width), np.float32)
    for c in range(out.shape[0]):
        for j in range(height + 2 * radius):
            line, there = rows[j], wide[c, j]
            for i in range(width):
                line[i] = there[i]
            for k in range(1, side):
                for i in range(width):
                    line[i] += there[i + k]
        for j in range(height):
            line = out[c, j]
            for i in range(width):
                line[i] = rows[j, i]
            for k in range(1, side):
                other = rows[j + k]
                for i in range(width):
                    line[i] += other[i]
            for i in range(width):
                line[i] *= share
