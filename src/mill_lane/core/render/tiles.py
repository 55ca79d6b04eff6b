"""Rendering a run of tiles: the compiled entry that a session calls again and again, from each of its threads."""

from __future__ import annotations

import math
from typing import Any

from mill_lane.core.render.integrator import trace
from mill_lane.core.render.jit import lean
from mill_lane.core.render.sampler import pair, pixel_seed

TILE = 16


@lean
def _pixel(
    world: Any,
    view: Any,
    width: int,
    height: int,
    x: int,
    y: int,
    seed: int,
    index: int,
    bounces: int,
    layers: int,
    clamp: float,
    stack: Any,
    counts: Any,
    features: Any,
) -> Any:
    s = pixel_seed(seed, x, y)
    jx, jy = pair(s, index, 0)
    a, b = 2 * (x + jx) / width - 1, 1 - 2 * (y + jy) / height
    f, r, u = view.forward, view.right, view.up
    dx, dy, dz = f[0] + a * r[0] + b * u[0], f[1] + a * r[1] + b * u[1], f[2] + a * r[2] + b * u[2]
    n = math.sqrt(dx * dx + dy * dy + dz * dz)
    p = view.position
    return trace(
        world, (p[0], p[1], p[2]), (dx / n, dy / n, dz / n), view.spread, s, index,
        bounces, layers, clamp, stack, counts, features,
    )  # fmt: skip


@lean
def render_tiles(
    world: Any,
    view: Any,
    film: Any,
    width: int,
    height: int,
    x0: int,
    y0: int,
    first: int,
    tiles: int,
    index: int,
    samples: int,
    seed: int,
    bounces: int,
    layers: int,
    clamp: float,
    stack: Any,
    features: Any,
    counts: Any,
) -> None:
    """Add `samples` samples, from number `index`, to tiles first to first + tiles of the film.

    The film covers the region that starts at (x0, y0) of a picture of width x height.  `stack` (uint32)
    and `features` (float64, 8) are scratch; `counts` (int64, 3) adds up rays by kind.
    """  # fmt: skip
    h, w = film.samples.shape
    across = (w + TILE - 1) // TILE
    for k in range(tiles):
        tx, ty = (first + k) % across * TILE, (first + k) // across * TILE
        for y in range(ty, min(ty + TILE, h)):
            for x in range(tx, min(tx + TILE, w)):
                for i in range(samples):
                    for c in range(8):
                        features[c] = 0.0
                    r, g, b = _pixel(
                        world, view, width, height, x0 + x, y0 + y, seed, index + i,
                        bounces, layers, clamp, stack, counts, features,
                    )  # fmt: skip
                    if not (r >= 0 and g >= 0 and b >= 0 and r + g + b < 1e30):
                        r, g, b = 0.0, 0.0, 0.0
                    luma = 0.2126 * r + 0.7152 * g + 0.0722 * b
                    film.light[y, x, 0] += r
                    film.light[y, x, 1] += g
                    film.light[y, x, 2] += b
                    film.luma[y, x, 0] += luma
                    film.luma[y, x, 1] += luma * luma
                    film.samples[y, x] += 1
                    if film.albedo.shape[0] > 0:
                        for c in range(3):
                            film.albedo[y, x, c] += features[c]
                    if film.normal.shape[0] > 0:
                        for c in range(3):
                            film.normal[y, x, c] += features[3 + c]
                    if film.depth.shape[0] > 0:
                        film.depth[y, x] += features[6]
