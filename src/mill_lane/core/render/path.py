"""What every step along a path uses:

light is added, work is counted, a ray starts beside a surface or goes on through.

All state stands in the path's scratch (`slots.Q_`): `w` is the world, `s` the settings, `q` the
path, `c` the counters.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.render import bsdf, materials
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.lanes import size_of, u32
from mill_lane.core.render.microfacet import schlick
from mill_lane.core.render.sampler import UNIT, points
from mill_lane.core.render.side_by_side import bit, following, mask_of, own, put, take, take_wholes
from mill_lane.core.render.slots import *
from mill_lane.core.render.vec import dot, plus, put_vector, times, vector_at

F = np.float32
EVENT = 8  # pairs of dimensions used by each event along a path
DIM_FOG, DIM_CHOICE, DIM_DIRECTION, DIM_LAMP, DIM_POINT, DIM_END = range(6)
DEAD, SURFACE, PARTICLE, STRAIGHT = range(4)
CAUSTIC_ALPHA = 0.25  # lobes sharper than this make caustics behind a soft one


@inner
def count_ray(q: Any, c: Any, ray: int, depth: int, component: int) -> None:
    """Add the work of the ray just followed to its kind and bounce, and to its component."""
    at = C_KINDS + (ray * DEPTHS + min(depth, DEPTHS - 1)) * 5
    nodes, leaves = np.int64(q[Q_NODES]), np.int64(q[Q_LEAVES])
    c[at] += 1
    c[at + 1] += nodes
    c[at + 2] += leaves
    at = C_COMPONENTS + component * 5
    c[at] += 1
    c[at + 1] += nodes
    c[at + 2] += leaves
    q[Q_WORK] += q[Q_NODES]
    q[Q_WORK_LEAVES] += q[Q_LEAVES]


@linked
def count_touches(q: Any, c: Any, ray: int, depth: int, component: int) -> None:
    """Add what was read and evaluated since the last call to where it belongs, and to the event's
    object and material.
    """
    reads, shades = np.int64(q[Q_TOUCHES]), np.int64(q[Q_SHADES])
    q[Q_TOUCHES], q[Q_SHADES] = 0.0, 0.0
    at = C_KINDS + (ray * DEPTHS + min(depth, DEPTHS - 1)) * 5
    c[at + 3] += reads
    c[at + 4] += shades
    at = C_COMPONENTS + component * 5
    c[at + 3] += reads
    c[at + 4] += shades
    q[Q_WORK_READS] += reads
    q[Q_WORK_SHADES] += shades


@inner
def component_of(q: Any) -> Any:
    """The component that light found now belongs to."""
    scattered = np.int64(
        q[Q_COUNT_DIFFUSE] + q[Q_COUNT_GLOSSY] + q[Q_COUNT_THROUGH] + q[Q_COUNT_VOLUME]
    )
    kind = np.int64(q[Q_KIND])
    return kind if scattered <= 1 else kind + 4


@linked
def add(
    w: Any, s: Any, q: Any, r: float, g: float, b: float, component: int, lamp: int, depth: int
) -> None:
    """Add light to the sample:

    held by the clamp, left out as a caustic, told apart by component, lamp and bounce.
    """
    luma = 0.2126 * r + 0.7152 * g + 0.0722 * b
    if luma <= 0:
        return
    if component > 0:
        if q[Q_CAUSTIC] > 0 and s[S_CAUSTICS] <= 0:
            q[Q_LOST] += luma
            return
        limit = s[S_DIRECT_CLAMP] if component <= 4 else s[S_CLAMP_BOUNCED]
        if 0 < limit < luma:
            k = limit / luma
            q[Q_LOST] += luma - limit
            r, g, b, luma = r * k, g * k, b * k, limit
    at = Q_OUT + 3 * SIDE * component
    q[at] += r
    q[at + SIDE] += g
    q[at + 2 * SIDE] += b
    if s[S_PROFILE] > 0:
        lamps = w[W_LAMP_COUNT]
        if lamp >= 0:
            q[Q_PER_LAMP + SIDE * lamp] += luma
        q[Q_PER_LAMP + SIDE * (4 * lamps + min(depth, DEPTHS - 1))] += luma
    if s[S_LIGHT_COUNT] > 0 and lamp >= 0:
        at = Q_PER_LAMP + SIDE * (w[W_LAMP_COUNT] + 3 * lamp)
        q[at] += r
        q[at + SIDE] += g
        q[at + 2 * SIDE] += b


@linked
def straight_on(w: Any, s: Any, p: Any, paths: int) -> Any:
    """What goes straight on through the surfaces of some paths' events, by colour: alpha, and thin
    clear glass.  To Q_STRAIGHT_R and on.

    The cover is read; materials are read here only where they are clear.  Returns the paths of
    which something may go on.
    """
    clear, open_, left = np.int64(0), np.int64(0), paths
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        f = materials.factors_of(w, np.int64(q[Q_MATERIAL]))
        thin = f[M_THICK] <= 0 or s[S_REFRACTION] <= 0
        q[Q_THIN] = 1.0 if thin else 0.0
        through = 1.0 - q[Q_COVER]
        q[Q_STRAIGHT_R], q[Q_STRAIGHT_G], q[Q_STRAIGHT_B] = through, through, through
        if through > 0:
            open_ |= bit(k)
        if f[M_TRANSMIT] > 0 and q[Q_COVER] > 0:
            materials.read_material(w, q)
            if thin and bsdf.is_smooth(q):
                clear |= bit(k)
    if clear == 0:
        return open_
    m = bsdf.material_at(p)
    d = size_of(dot(vector_at(p, Q_NX), vector_at(p, Q_DX)))
    _, taken = bsdf.dielectric(m, d)
    share = m.clear * (F(1) - taken) * (F(1) - m.coat * schlick(F(0.04), d))
    share = share * take(p, Q_COVER) * bsdf.under_sheen(p, m, d)
    through = plus(vector_at(p, Q_STRAIGHT_R), times(m.base, share))
    put_vector(p, Q_STRAIGHT_R, through, mask_of(clear))
    return open_ | clear


@linked
def draw(p: Any, paths: int) -> None:
    """Draw the random numbers of some paths' events."""
    seed, index, dim = take_wholes(p, Q_SEED), take_wholes(p, Q_INDEX), take_wholes(p, Q_EVENT)
    mask = mask_of(paths)
    for k in range(DIM_CHOICE, DRAWN):
        a, b = points(seed, index, u32(dim + np.uint32(k)))
        put(p, Q_DRAWN + 2 * SIDE * k, a, mask)
        put(p, Q_DRAWN + 2 * SIDE * k + SIDE, b, mask)


@inner
def draw_choice(p: Any, paths: int) -> None:
    """`draw`, of the dimension alone by which an event is chosen."""
    seed, index, dim = take_wholes(p, Q_SEED), take_wholes(p, Q_INDEX), take_wholes(p, Q_EVENT)
    a, b = points(seed, index, u32(dim + np.uint32(DIM_CHOICE)))
    put(p, Q_DRAWN + 2 * SIDE * DIM_CHOICE, a, mask_of(paths))
    put(p, Q_DRAWN + 2 * SIDE * DIM_CHOICE + SIDE, b, mask_of(paths))


@inner
def drawn(q: Any, k: int) -> Any:
    """The pair of the event's k-th dimension, as `sampler.pair` has it."""
    return q[Q_DRAWN + 2 * SIDE * k] * UNIT, q[Q_DRAWN + 2 * SIDE * k + SIDE] * UNIT


@inner
def drawn_lanes(p: Any, k: int) -> Any:
    """`drawn` for all paths, as lanes: in [0, 1]."""
    at = Q_DRAWN + 2 * SIDE * k
    return take(p, at) * F(UNIT), take(p, at + SIDE) * F(UNIT)


@inner
def start_beside(q: Any, side: float) -> None:
    """The next ray starts just off the event's surface, on the side of its normal or behind it."""
    e = side * q[Q_RAY_EPSILON]
    q[Q_OX], q[Q_OY], q[Q_OZ] = q[Q_PX] + e * q[Q_GX], q[Q_PY] + e * q[Q_GY], q[Q_PZ] + e * q[Q_GZ]
