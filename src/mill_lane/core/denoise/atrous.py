"""Quick smoothing: a few passes over ever wider grids of 5 x 5, edges kept by guides and variance.

Dammertz, Sewtz, Hanika and Lensch, "Edge-Avoiding À-Trous Wavelet Transform for fast Global
Illumination Filtering", 2010; the variance that goes along from pass to pass as in Schied et al.
2017.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.compiled import compiler_of
from mill_lane.core.denoise.patches import FAST
from mill_lane.core.denoise.prefilter import box_mean

F32 = NDArray[np.float32]
compiled = compiler_of(__file__, **FAST)

PASSES = 4  # the last one reaches 2 * 8 pixels
REACH = 2 * (2**PASSES - 1) + PASSES  # pixels to either side that a pixel depends on
STRICT = 3.0  # standard errors apart for a weight of 1/e
NEAR = 0.15  # how far apart guides may be for a weight of 1/e
LEAST_VARIANCE = 1e-6
BAND = 16  # rows that a thread takes at a time


def atrous(
    halves: Sequence[F32],
    variance: F32,
    guides: F32,
    threads: int = 1,
    progress: Callable[[float], None] | None = None,
) -> list[F32]:
    """Smooth pictures by weights that their mean tells.

    Parameters
    ----------
    halves : sequence of float32 arrays (3, H, W)
        One, or two of which the mean tells which pixels are alike.
    variance : float32 array (3, H, W)
        Of that mean; it is followed on the way.
    guides : float32 array (G, H, W)
    threads : int
        The result does not depend on it.
    progress : callable, optional

    Returns
    -------
    list of float32 arrays (3, H, W)
    """
    height = halves[0].shape[1]
    now = np.concatenate(halves).astype(np.float32)
    known = variance
    for k in range(PASSES):
        step = 2**k
        by = now[:3] if len(halves) == 1 else ((now[:3] + now[3:]) / 2).astype(np.float32)
        given = (now, by, known, box_mean(known, 1), guides)
        wide = tuple(_padded(x, 2 * step) for x in given)
        out, spread = np.empty_like(now), np.empty_like(known)

        def band(y0: int, wide: Any = wide, step: int = step, to: Any = (out, spread)) -> None:
            _pass(wide, step, y0, min(y0 + BAND, height), *to)

        with ThreadPoolExecutor(max(1, threads)) as pool:
            list(pool.map(band, range(0, height, BAND)))
        now, known = out, spread
        if progress is not None:
            progress((k + 1) / PASSES)
    return [now[3 * k : 3 * k + 3] for k in range(len(halves))]


def _padded(planes: F32, edge: int) -> F32:
    wide = np.pad(planes, ((0, 0), (edge, edge), (edge, edge)), "symmetric")
    return np.ascontiguousarray(wide, np.float32)


@compiled
def _weigh(by: Any, blurred: Any, guides: Any, place: Any, weight: Any) -> None:
    """Weights of a row's neighbours a step away, before the share of the grid's tap."""
    y, dy, edge, dx = place
    strict, least = np.float32(STRICT * STRICT), np.float32(LEAST_VARIANCE)
    near, each = np.float32(1.0 / (NEAR * NEAR)), np.float32(1.0 / by.shape[0])
    width = len(weight)
    weight[:] = 0.0
    for c in range(by.shape[0]):
        a, b, va, vb = by[c, y, edge:], by[c, dy, dx:], blurred[c, y, edge:], blurred[c, dy, dx:]
        for x in range(width):
            d = a[x] - b[x]
            weight[x] += each * d * d / (least + strict * (va[x] + min(va[x], vb[x])))
    for g in range(guides.shape[0]):
        a, b = guides[g, y, edge:], guides[g, dy, dx:]
        for x in range(width):
            d = a[x] - b[x]
            weight[x] += near * d * d
    for x in range(width):
        # exp(-d) as (1 - d / 16) to the power of 16, which comes to nothing.
        e = max(np.float32(1) - weight[x] / np.float32(16), np.float32(0))
        e *= e
        e *= e
        e *= e
        weight[x] = e * e


@compiled
def _pass(wide: Any, step: int, y0: int, y1: int, out: Any, spread: Any) -> None:
    """One pass over rows y0 to y1."""
    planes, by, known, blurred, guides = wide
    width, edge, count = out.shape[2], 2 * step, planes.shape[0]
    sums = np.empty((count + known.shape[0], width), np.float32)
    total, weight = np.empty(width, np.float32), np.empty(width, np.float32)
    taps = (np.float32(0.0625), np.float32(0.25), np.float32(0.375))
    for y in range(y0, y1):
        sums[:] = 0.0
        total[:] = 0.0
        for tap in range(25):
            j, i = tap // 5 - 2, tap % 5 - 2
            dy, dx = y + edge + j * step, edge + i * step
            _weigh(by, blurred, guides, (y + edge, dy, edge, dx), weight)
            share = taps[2 - abs(j)] * taps[2 - abs(i)]
            for x in range(width):
                weight[x] *= share
                total[x] += weight[x]
            for c in range(count):
                line, there = sums[c], planes[c, dy, dx:]
                for x in range(width):
                    line[x] += weight[x] * there[x]
            for c in range(known.shape[0]):
                line, there = sums[count + c], known[c, dy, dx:]
                for x in range(width):
                    line[x] += weight[x] * weight[x] * there[x]
        for c in range(count):
            for x in range(width):
                out[c, y, x] = sums[c, x] / total[x]
        for c in range(known.shape[0]):
            for x in range(width):
                spread[c, y, x] = sums[count + c, x] / (total[x] * total[x])
