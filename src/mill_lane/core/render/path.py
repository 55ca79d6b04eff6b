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
from mill_lane.core.render.microfacet import schlick
from mill_lane.core.render.pointers import address_of, u32_at
from mill_lane.core.render.slots import *

EVENT = 8  # pairs of dimensions used by each event along a path
DIM_FOG, DIM_CHOICE, DIM_DIRECTION, DIM_LAMP, DIM_POINT, DIM_END = range(6)
DEAD, SURFACE, PARTICLE = 0, 1, 2
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
    q[Q_WORK + 1] += q[Q_LEAVES]


@linked
def count_touches(q: Any, c: Any, ray: int, depth: int, component: int) -> None:
    """Add what was read and evaluated since the last call to where it belongs, and to the event's
    object and material.
    """
    reads, shades = np.int64(q[Q_TOUCHES]), np.int64(q[Q_TOUCHES + 1])
    q[Q_TOUCHES], q[Q_TOUCHES + 1] = 0.0, 0.0
    at = C_KINDS + (ray * DEPTHS + min(depth, DEPTHS - 1)) * 5
    c[at + 3] += reads
    c[at + 4] += shades
    at = C_COMPONENTS + component * 5
    c[at + 3] += reads
    c[at + 4] += shades
    q[Q_WORK + 2] += reads
    q[Q_WORK + 3] += shades


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
    at = Q_OUT + 3 * component
    q[at] += r
    q[at + 1] += g
    q[at + 2] += b
    if s[S_PROFILE] > 0:
        lamps = w[W_LAMP_COUNT]
        if lamp >= 0:
            q[Q_PER_LAMP + lamp] += luma
        q[Q_PER_LAMP + 4 * lamps + min(depth, DEPTHS - 1)] += luma
    if s[S_LIGHT_COUNT] > 0 and lamp >= 0:
        at = Q_PER_LAMP + w[W_LAMP_COUNT] + 3 * lamp
        q[at] += r
        q[at + 1] += g
        q[at + 2] += b


@linked
def straight_on(w: Any, s: Any, q: Any) -> Any:
    """What goes straight on through the event's surface, by colour: alpha, and thin clear glass.

    The cover is read; the material is read here only where it is clear.
    """
    cover = q[Q_COVER]
    material = np.int64(q[Q_MATERIAL])
    f = materials.factors_of(w, material)
    clear = 0.0
    if f[M_TRANSMIT] > 0 and cover > 0:
        materials.read_material(w, q)
        if (f[M_THICK] <= 0 or s[S_REFRACTION] <= 0) and bsdf.is_smooth(q):
            d = abs(q[Q_NX] * q[Q_DX] + q[Q_NY] * q[Q_DY] + q[Q_NZ] * q[Q_DZ])
            clear = (
                q[Q_CLEAR]
                * (1.0 - bsdf.dielectric(q, d, True)[3])
                * (1.0 - q[Q_COAT] * schlick(0.04, d))
                * bsdf.under_sheen(q, d)
            )
    return (
        1.0 - cover + cover * clear * q[Q_BR],
        1.0 - cover + cover * clear * q[Q_BG],
        1.0 - cover + cover * clear * q[Q_BB],
    )


@inner
def numbers_of_event(q: Any) -> Any:
    """The random numbers that were drawn for the event (`sampler.draw`)."""
    return u32_at(address_of(q) + 8 * Q_DRAWN)


@inner
def start_beside(q: Any, side: float) -> None:
    """The next ray starts just off the event's surface, on the side of its normal or behind it."""
    e = side * q[Q_RAY_EPSILON]
    q[Q_OX], q[Q_OY], q[Q_OZ] = q[Q_PX] + e * q[Q_GX], q[Q_PY] + e * q[Q_GY], q[Q_PZ] + e * q[Q_GZ]
