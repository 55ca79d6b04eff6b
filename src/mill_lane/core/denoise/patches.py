"""How alike patches of a noisy picture are, for a tile of pixels and one step at a time.

Buades, Coll and Morel 2005; the distance free of the noise's own part as in Rousselle, Knaus and
Zwicker 2012.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.compiled import compiler_of

# Products may be added without rounding between: the bits do not depend on how many at a time.
FAST: dict[str, Any] = {"fastmath": {"contract"}, "error_model": "numpy"}
compiled = compiler_of(__file__, **FAST)

TILE_WIDTH, TILE_HEIGHT = 256, 8  # pixels; what a row of it gathers then stays in a core's cache


def tiles_of(height: int, width: int) -> list[tuple[int, int, int, int]]:
    """Cut a picture: (y0, y1, x0, x1) of each tile."""
    return [
        (y, min(y + TILE_HEIGHT, height), x, min(x + TILE_WIDTH, width))
        for y in range(0, height, TILE_HEIGHT)
        for x in range(0, width, TILE_WIDTH)
    ]


@compiled
def _sum_patches(apart: Any, rows: Any, out: Any, scale: float) -> None:
    """Sum distances over patches, first along rows, and make weights of them."""
    height, width = out.shape
    patch = (apart.shape[0] - height) // 2
    for j in range(height + 2 * patch):
        line, total = apart[j], rows[j]
        for i in range(width):
            total[i] = line[i]
        for k in range(1, 2 * patch + 1):
            for i in range(width):
                total[i] += line[i + k]
    for j in range(height):
        line = out[j]
        for i in range(width):
            line[i] = rows[j, i]
        for k in range(1, 2 * patch + 1):
            other = rows[j + k]
            for i in range(width):
                line[i] += other[i]
        for i in range(width):
            # exp(-d) as (1 - d / 16) to the power of 16, which comes to nothing.
            d = max(line[i] * scale, np.float32(0))
            near = max(np.float32(1) - d / np.float32(16), np.float32(0))
            near *= near
            near *= near
            near *= near
            line[i] = near * near


@compiled
def weigh_patches(
    by: Any,
    variance: Any,
    other: Any,
    bounds: Any,
    place: Any,
    rows: Any,
    apart: Any,
    out: Any,
) -> None:
    """How alike the patches round each pixel of a tile and those a step from there are.

    by, variance : planes (C, H, W) of what is compared, and of how unsure it is.  other : the same
    two of where the neighbours are taken from: themselves, or those of another frame.  bounds :
    standard errors apart for a weight of 1/e, squared, and the variance that everything has.
    place : the tile's first row and column, and the step down and right.  apart (h + 2 P,
    w + 2 P), rows (h + 2 P, w) : scratch, whose size tells that of the patch.  out : (h, w),
    filled.
    """
    there, there_variance = other
    y, x, dy, dx = place
    height, width = out.shape
    patch = (apart.shape[0] - height) // 2
    bound, floor = np.float32(bounds[0]), np.float32(bounds[1])
    for j in range(height + 2 * patch):
        line = apart[j]
        for i in range(width + 2 * patch):
            line[i] = 0.0
        for c in range(by.shape[0]):
            a, b = by[c, y + j - patch, x - patch :], there[c, y + j - patch + dy, x - patch + dx :]
            va = variance[c, y + j - patch, x - patch :]
            vb = there_variance[c, y + j - patch + dy, x - patch + dx :]
            for i in range(width + 2 * patch):
                d = a[i] - b[i]
                known = va[i] + min(va[i], vb[i])
                line[i] += (d * d - known) / (floor + bound * (va[i] + vb[i]))
    _sum_patches(apart, rows, out, np.float32(1.0 / (by.shape[0] * (2 * patch + 1) ** 2)))
