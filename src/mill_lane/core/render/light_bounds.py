"""How much light each lamp may give at a point, eight lamps at a time; and what shines at all.

A bound is of the light that falls on a surface turned towards the lamp.  The tables are float32,
relative to the middle of the scene, and their margins are wider than what that may lose: a bound
of 0 means that nothing arrives.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render import path_slots
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.lanes import bits, lane, most, read, root, total, where, write
from mill_lane.core.render.pointers import address_of, f32_at, f64_at
from mill_lane.core.render.side_by_side import number_of
from mill_lane.core.render.slots import *

AT_ONCE = LAMPS_AT_ONCE
# Rows of eight: power is over the squared distance, no nearer than the root of NEAREST; PLACED is 0
# for what is so far away that it lies in the same direction from everywhere.
(
    B_X,
    B_Y,
    B_Z,
    B_PLACED,
    B_RADIUS,
    B_POWER,
    B_NEAREST,
    B_REACH,
    B_DX,
    B_DY,
    B_DZ,
    B_CONE,
) = range(0, 12 * AT_ONCE, AT_ONCE)
BOUNDS = 12 * AT_ONCE
BALL = 4 * AT_ONCE  # middle and radius of what shines
MOST_BALLS = 256  # beyond that a ray costs less than looking at all of them
MOST_POWER = 1e25  # over the least squared distance it still is a float32
LOST = 4e-7  # of the size of the scene: what float32 may err in a place
F = np.float32
_weights_place, _weights_size = inner(path_slots.weights_place), inner(path_slots.weights_size)
_eights = inner(path_slots.eights)


def light_bounds(
    rows: NDArray[np.float64], centre: NDArray[np.float64], size: float
) -> NDArray[np.float32]:
    """The table of bounds of lamps: float32 (groups, 12, 8).

    rows : (L, LAMP_COLUMNS), in the world.  centre : (3,), the middle of the scene.  size : how far
    from it anything lies, metres.
    """
    n = len(rows)
    out = np.zeros((-(-n // AT_ONCE) * AT_ONCE, 12))
    out[:, 6] = 1.0  # whoever fills up a group has no power, and must not divide by 0
    if n:
        kind, far = rows[:, L_KIND], np.isin(rows[:, L_KIND], (SUN, SKY))
        mesh, sky, sun = kind == MESH, kind == SKY, kind == SUN
        own = out[:n]
        axis = rows[:, L_DX : L_DZ + 1]
        own[:, :3] = np.where(far[:, None], -axis * sun[:, None], rows[:, L_X : L_Z + 1] - centre)
        own[:, 3] = ~far
        slack = LOST * (size + np.abs(own[:, :3]).max(1))
        # A sun a little below the horizon may be seen over the edge of a bent normal's side.
        own[:, 4] = np.where(sky, 2.0, np.where(sun, 0.2, rows[:, L_RADIUS] + slack))
        own[:, 5] = rows[:, L_LUMA] * np.where(mesh, np.abs(rows[:, L_AREA]), 1.0)
        own[:, 5] = np.minimum(own[:, 5], MOST_POWER) * (rows[:, L_SCALE] > 0)
        nearest = np.where(mesh, rows[:, L_RADIUS] ** 2, 1e-12)
        own[:, 6] = np.where(far, 1.0, np.maximum(nearest, 1e-30))
        own[:, 7] = np.where(mesh | far, 1e30, (rows[:, L_RANGE] + slack) ** 2)
        own[:, 8:11] = axis
        spot = kind == SPOT
        # As wide as the cone, and what the place of a lamp may err.
        own[:, 11] = np.where(spot, rows[:, L_OUTER] - 1e-5, -2.0)
        own[:, 4] = np.where(spot | (kind == POINT), slack, own[:, 4])
    return np.ascontiguousarray(out.reshape(-1, AT_ONCE, 12).transpose(0, 2, 1), np.float32)


def shining_balls(
    balls: NDArray[np.float64], centre: NDArray[np.float64], size: float
) -> NDArray[np.float32]:
    """The table of bounding spheres of what shines by itself: float32 (groups, 4, 8).

    balls : (B, 4), middle and radius, metres in the world.  centre, size : as in `light_bounds`.
    """
    out = np.zeros((-(-len(balls) // AT_ONCE) * AT_ONCE, 4))
    out[:, 3] = -1.0  # whoever fills up a group is never met
    if len(balls):
        own = out[: len(balls)]
        own[:, :3] = balls[:, :3] - centre
        own[:, 3] = balls[:, 3] * (1 + 1e-5) + 4 * LOST * (size + np.abs(own[:, :3]).max(1))
    return np.ascontiguousarray(out.reshape(-1, AT_ONCE, 4).transpose(0, 2, 1), np.float32)


class Spot(NamedTuple):
    """Where lamps are looked for from, float32: a place relative to the middle of the scene, the
    normal of a surface that has a horizon, and the least bound that counts.
    """

    x: Any
    y: Any
    z: Any
    nx: Any
    ny: Any
    nz: Any
    horizon: Any
    lowest: Any


@inner
def _spot(w: Any, s: Any, q: Any) -> Any:
    """The point aimed from (Q_AX and on)."""
    centre = f64_at(w[W_CENTRE])
    lowest = s[S_LIGHT_THRESHOLD] / max(q[Q_AIM_T], 1e-30)
    return Spot(
        F(q[Q_AX] - centre[0]),
        F(q[Q_AY] - centre[1]),
        F(q[Q_AZ] - centre[2]),
        F(q[Q_AIM_NX]),
        F(q[Q_AIM_NY]),
        F(q[Q_AIM_NZ]),
        q[Q_AIM_SURFACE] > 0,
        F(min(lowest, 1e30)),
    )


@inner
def _eight(t: Any, base: int, p: Spot) -> Any:
    """The bounds of eight lamps, whose part of the table begins at `base`."""
    placed = read(t, base + B_PLACED, 8)
    x = read(t, base + B_X, 8) - placed * p.x
    y = read(t, base + B_Y, 8) - placed * p.y
    z = read(t, base + B_Z, 8) - placed * p.z
    d2 = x * x + y * y + z * z
    bound = read(t, base + B_POWER, 8) / most(d2, read(t, base + B_NEAREST, 8))
    along = x * read(t, base + B_DX, 8) + y * read(t, base + B_DY, 8) + z * read(t, base + B_DZ, 8)
    lit = (d2 < read(t, base + B_REACH, 8)) & (
        along * F(-1.0) >= read(t, base + B_CONE, 8) * root(d2)
    )
    if p.horizon:
        above = x * p.nx + y * p.ny + z * p.nz
        lit = lit & (above + read(t, base + B_RADIUS, 8) > F(0))
    return where(lit & (bound >= p.lowest), bound, F(0))


@inner
def _weights(q: Any, lamps: int) -> Any:
    """Where the path's weights of the lamps stand."""
    own = number_of(q) * (_weights_size(lamps) - 1)
    return f64_at(address_of(q) + 8 * (_weights_place(lamps) + own))


@linked
def weigh_lamps(w: Any, s: Any, q: Any) -> float:
    """Keep the bounds of all lamps at the point aimed from for the choice; returns their sum."""
    count = w[W_LAMP_COUNT]
    groups = _eights(count)
    sums = _weights(q, count)
    kept = f32_at(address_of(sums) + 8 * groups)
    t, here = f32_at(w[W_BOUNDS]), _spot(w, s, q)
    whole = 0.0
    for g in range(groups):
        eight = _eight(t, g * BOUNDS, here)
        write(eight, kept, g * AT_ONCE)
        sums[g] = total(eight)
        whole += sums[g]
    return whole


@linked
def bound_of(w: Any, s: Any, q: Any, i: int) -> float:
    """The bound of one lamp, to the bit as `weigh_lamps` has it."""
    eight = _eight(f32_at(w[W_BOUNDS]), i // AT_ONCE * BOUNDS, _spot(w, s, q))
    return np.float64(lane(eight, i % AT_ONCE))


@linked
def pick_by_bound(w: Any, q: Any, left: float) -> Any:
    """The lamp within which `left`, from 0 to the sum of all bounds, falls:

    (number or -1, its bound, how far into it).
    """
    count = w[W_LAMP_COUNT]
    groups = _eights(count)
    sums = _weights(q, count)
    kept = f32_at(address_of(sums) + 8 * groups)
    last = np.int64(-1)
    for g in range(groups):
        if sums[g] <= 0:
            continue
        last = np.int64(g)
        if left < sums[g]:
            break
        left -= sums[g]
    if last < 0:
        return np.int64(-1), 0.0, 0.0
    at, part = np.int64(-1), 0.0
    for i in range(last * AT_ONCE, (last + 1) * AT_ONCE):
        own = np.float64(kept[i])
        if own > 0:
            if at >= 0:
                left -= part
            at, part = np.int64(i), own
            if left < own:
                break
    return at, part, min(max(left, 0.0), part)


@linked
def meets_what_shines(w: Any, q: Any) -> bool:
    """Whether the path's ray may meet anything that shines: their balls alone are looked at."""
    t, centre = f32_at(w[W_SHINING]), f64_at(w[W_CENTRE])
    ox, oy, oz = F(q[Q_OX] - centre[0]), F(q[Q_OY] - centre[1]), F(q[Q_OZ] - centre[2])
    dx, dy, dz = F(q[Q_DX]), F(q[Q_DY]), F(q[Q_DZ])
    for g in range(w[W_SHINING_COUNT]):
        base = g * BALL
        x, y, z = read(t, base, 8) - ox, read(t, base + 8, 8) - oy, read(t, base + 16, 8) - oz
        radius = read(t, base + 24, 8)
        # The distance of the middle from the ray's line, by a cross product: it stays exact where
        # the difference of two squares would not.
        p, r, s = y * dz - z * dy, z * dx - x * dz, x * dy - y * dx
        inside = radius * radius
        ahead = (x * dx + y * dy + z * dz > F(0)) | (x * x + y * y + z * z < inside)
        if bits(ahead & (p * p + r * r + s * s < inside) & (radius > F(0))) != 0:
            return True
    return False
