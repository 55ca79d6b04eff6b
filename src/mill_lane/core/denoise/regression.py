"""First-order regression on guides, with non-local-means weights.

Bitterli et al., "Nonlinearly Weighted First-order Regression for Denoising Monte Carlo Renderings",
2016; the weights of Rousselle, Knaus and Zwicker 2012, after Buades, Coll and Morel 2005.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.compiled import compiler_of
from mill_lane.core.denoise import patches
from mill_lane.core.denoise.patches import FAST, tiles_of, weigh_patches

F32 = NDArray[np.float32]
compiled = compiler_of(__file__, (patches.__file__,), **FAST)

PATCH = 3  # pixels to either side that are compared
RIDGE = 1e-4
STRICT = 0.6  # how many standard errors apart patches may be, for a weight of 1/e
LEAST_VARIANCE = 1e-6
FARTHEST = 3.0  # times the neighbours' mean, or that part of it, that a fitted value may be


@dataclass(frozen=True, eq=False)
class Given:
    """What one frame gives to the regression, all of one size, planes first.

    values : float32 (3, H, W), what is smoothed: one half of the samples.  weighed_by, variance :
    (3, H, W), the other half, whose patches tell which neighbours are alike, and the variance of a
    pixel's mean in it.  guides : (G, H, W), of which what is seen is a linear function, about 1
    large.  there : (H, W), 1 where a pixel of another frame shows what this one shows; None for
    the frame itself.
    """

    values: F32
    weighed_by: F32
    variance: F32
    guides: F32
    there: F32 | None = None


def regressed(
    given: Given,
    radius: int,
    beside: Sequence[Given] = (),
    threads: int = 1,
    progress: Callable[[float], None] | None = None,
    wanted: slice = slice(None),
) -> F32:
    """Fit each pixel's neighbourhood by a plane over the guides, and take the plane's value there.

    Parameters
    ----------
    given : Given
        The frame.
    radius : int
        Pixels to either side that are neighbours.
    beside : sequence of Given
        Other frames, brought to where things are in this one; their neighbours count as its own.
    threads : int
        The result does not depend on it.
    progress : callable, optional
        Told the share that is done.
    wanted : slice
        The rows that are wanted; the others are margins.

    Returns
    -------
    float32 array (3, H, W), of the wanted rows
    """
    _, height, width = given.values.shape
    first, last, _ = wanted.indices(height)
    edge = radius + PATCH
    here = _padded(given, edge)
    others = [_padded(g, edge) for g in beside]
    out = np.empty((3, last - first, width), np.float32)
    tiles = tiles_of(last - first, width)
    count, most = len(given.guides), (patches.TILE_HEIGHT, patches.TILE_WIDTH)
    terms = (count + 1) * (count + 2) // 2 + 3 * (count + 1)

    def one(tile: tuple[int, int, int, int]) -> None:
        y0, y1, x0, x1 = tile
        sums = np.zeros((terms, *most), np.float32)[:, : y1 - y0, : x1 - x0]
        for frame in (here, *others):
            _add(here, frame, (y0 + first, y1 + first, x0, x1), radius, sums)
        _solve_tile(sums, y0, x0, count, np.float32(RIDGE), out)

    with ThreadPoolExecutor(max(1, threads)) as pool:
        for k, _ in enumerate(pool.map(one, tiles)):
            if progress is not None:
                progress((k + 1) / len(tiles))
    return out


Planes = tuple[F32, F32, F32, F32, F32]


def _padded(given: Given, edge: int) -> Planes:
    there = np.ones((1, 1), np.float32)  # asked nothing where there is but the frame itself
    if given.there is not None:
        there = np.pad(given.there, edge)
    frame = (given.values, given.weighed_by, given.variance, given.guides)
    a, b, c, d = (
        np.ascontiguousarray(
            np.pad(planes, ((0, 0), (edge, edge), (edge, edge)), "symmetric"), np.float32
        )
        for planes in frame
    )
    return a, b, c, d, np.ascontiguousarray(there, np.float32)


@compiled
def _gather(
    values: Any,
    guides: Any,
    guides_there: Any,
    y: int,
    x: int,
    offsets: Any,
    weights: Any,
    slopes: Any,
    sums: Any,
) -> None:
    """Add four neighbours of every pixel of a tile to its equations at once: sums are read and
    written a quarter as often.

    offsets : (4, 2).  weights : (4, h, w).  slopes : (G + 4, 4, w), scratch: each guide's
    difference, then the values.  sums : (terms, h, w), the upper half of the matrix, then the right
    sides.
    """
    height, width = weights.shape[1:]
    count = guides.shape[0]
    for j in range(height):
        for n in range(4):
            dy, dx = offsets[n, 0], offsets[n, 1]
            for g in range(count):
                here, there = guides[g, y + j, x:], guides_there[g, y + j + dy, x + dx :]
                line = slopes[g + 1, n]
                for i in range(width):
                    line[i] = there[i] - here[i]
            for c in range(3):
                value, line = values[c, y + j + dy, x + dx :], slopes[count + 1 + c, n]
                for i in range(width):
                    line[i] = value[i]
        w0, w1, w2, w3 = weights[0, j], weights[1, j], weights[2, j], weights[3, j]
        k = 0
        for a in range(count + 1):
            p0, p1, p2, p3 = slopes[0, 0], slopes[0, 1], slopes[0, 2], slopes[0, 3]
            if a == 0:
                for i in range(width):
                    p0[i], p1[i], p2[i], p3[i] = w0[i], w1[i], w2[i], w3[i]
                total = sums[0, j]
                for i in range(width):
                    total[i] += (w0[i] + w1[i]) + (w2[i] + w3[i])
                k = 1
            else:
                f0, f1, f2, f3 = slopes[a, 0], slopes[a, 1], slopes[a, 2], slopes[a, 3]
                for i in range(width):
                    p0[i], p1[i] = w0[i] * f0[i], w1[i] * f1[i]
                    p2[i], p3[i] = w2[i] * f2[i], w3[i] * f3[i]
            for b in range(max(a, 1), count + 1):
                g0, g1, g2, g3 = slopes[b, 0], slopes[b, 1], slopes[b, 2], slopes[b, 3]
                total = sums[k, j]
                for i in range(width):
                    total[i] += (p0[i] * g0[i] + p1[i] * g1[i]) + (p2[i] * g2[i] + p3[i] * g3[i])
                k += 1
        for a in range(count + 1):
            p0, p1, p2, p3 = slopes[0, 0], slopes[0, 1], slopes[0, 2], slopes[0, 3]
            if a == 0:
                for i in range(width):
                    p0[i], p1[i], p2[i], p3[i] = w0[i], w1[i], w2[i], w3[i]
            else:
                f0, f1, f2, f3 = slopes[a, 0], slopes[a, 1], slopes[a, 2], slopes[a, 3]
                for i in range(width):
                    p0[i], p1[i] = w0[i] * f0[i], w1[i] * f1[i]
                    p2[i], p3[i] = w2[i] * f2[i], w3[i] * f3[i]
            for c in range(count + 1, count + 4):
                g0, g1, g2, g3 = slopes[c, 0], slopes[c, 1], slopes[c, 2], slopes[c, 3]
                total = sums[k, j]
                for i in range(width):
                    total[i] += (p0[i] * g0[i] + p1[i] * g1[i]) + (p2[i] * g2[i] + p3[i] * g3[i])
                k += 1


@compiled
def _solve(sums: Any, j: int, i: int, count: int, ridge: float, a: Any, b: Any) -> None:
    """Solve the equations of one pixel by Cholesky's factors; the answers to row 0 of `b`."""
    k = 0
    n = count + 1
    for r in range(n):
        for c in range(r, n):
            a[c, r] = sums[k, j, i]
            k += 1
    for r in range(n):
        for c in range(3):
            b[r, c] = sums[k, j, i]
            k += 1
    total = a[0, 0]
    for r in range(1, n):
        a[r, r] += ridge * total
    for r in range(n):
        for c in range(r + 1):
            s = a[r, c]
            for m in range(c):
                s -= a[r, m] * a[c, m]
            if r == c:
                a[r, r] = np.sqrt(max(s, 1e-12 * total + 1e-30))
            else:
                a[r, c] = s / a[c, c]
    for c in range(3):
        for r in range(n):
            s = b[r, c]
            for m in range(r):
                s -= a[r, m] * b[m, c]
            b[r, c] = s / a[r, r]
        for back in range(n):
            r = n - 1 - back
            s = b[r, c]
            for m in range(r + 1, n):
                s -= a[m, r] * b[m, c]
            b[r, c] = s / a[r, r]


@compiled
def _mask(there: Any, y: int, x: int, weights: Any) -> None:
    for j in range(weights.shape[0]):
        line, known = weights[j], there[y + j, x:]
        for i in range(weights.shape[1]):
            line[i] *= known[i]


@compiled
def _add(here: Any, frame: Any, tile: Any, radius: int, sums: Any) -> None:
    """Add a frame's neighbours of every pixel of a tile to its equations."""
    by, variance, guides = here[1], here[2], here[3]
    values, by_there, variance_there, guides_there, there = frame
    y0, y1, x0, x1 = tile
    height, width, edge = y1 - y0, x1 - x0, radius + PATCH
    slopes = np.empty((guides.shape[0] + 4, 4, width), np.float32)
    weights = np.empty((4, height, width), np.float32)
    offsets = np.zeros((4, 2), np.int64)
    apart = np.empty((height + 2 * PATCH, width + 2 * PATCH), np.float32)
    rows = np.empty((height + 2 * PATCH, width), np.float32)
    y, x = y0 + edge, x0 + edge
    side = 2 * radius + 1
    bounds = (STRICT * STRICT, LEAST_VARIANCE)
    for first in range(0, side * side, 4):
        for n in range(4):
            number = first + n
            if number < side * side:
                dy, dx = number // side - radius, number % side - radius
                offsets[n, 0], offsets[n, 1] = dy, dx
                place = (y, x, dy, dx)
                weigh_patches(
                    by, variance, (by_there, variance_there), bounds, place, rows, apart, weights[n]
                )
                if there.shape[0] > 1:
                    _mask(there, y + dy, x + dx, weights[n])
            else:
                weights[n] = 0.0
        _gather(values, guides, guides_there, y, x, offsets, weights, slopes, sums)


@compiled
def _solve_tile(sums: Any, y0: int, x0: int, count: int, ridge: float, out: Any) -> None:
    a = np.empty((count + 1, count + 1))
    b = np.empty((count + 1, 3))
    right = (count + 1) * (count + 2) // 2  # where the right sides begin
    for j in range(sums.shape[1]):
        for i in range(sums.shape[2]):
            _solve(sums, j, i, count, ridge, a, b)
            for c in range(3):
                # At an edge with few alike a plane may lean far out: black and glaring pixels.
                mean = sums[right + c, j, i] / sums[0, j, i]
                most = np.float32(FARTHEST) * mean
                out[c, y0 + j, x0 + i] = min(max(b[0, c], mean / np.float32(FARTHEST)), most)
