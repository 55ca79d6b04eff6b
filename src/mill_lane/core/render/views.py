"""What a trial can show instead of light: how open every place is, and the edges of triangles."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render import surface
from mill_lane.core.render.jit import linked
from mill_lane.core.render.microfacet import frame
from mill_lane.core.render.path import (
    DIM_DIRECTION,
    start_beside,
)
from mill_lane.core.render.sampler import pair
from mill_lane.core.render.side_by_side import (
    bit,
    following,
    masks,
    own,
)
from mill_lane.core.render.slots import *
from mill_lane.core.render.traverse import ALL, closest

PI = math.pi


@linked
def see(w: Any, s: Any, p: Any, c: Any) -> None:
    """Occlusion or edges instead of light, for a group's paths that have met anything."""
    m = masks(p)
    left = m[M_SURFACES] | m[M_PARTICLES]
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        for at in range(Q_OUT, Q_FEATURES, SIDE):
            q[at] = 0.0
        if m[M_SURFACES] & bit(k) != 0:
            occlusion = np.int64(s[S_VIEW]) == VIEW_OCCLUSION
            shade = _occlusion(w, s, q, c) if occlusion else _wires(w, s, q)
            q[Q_OUT], q[Q_OUT + SIDE], q[Q_OUT + 2 * SIDE] = shade, shade, shade


@linked
def _occlusion(w: Any, s: Any, q: Any, c: Any) -> float:
    """1 where nothing stands within reach in a direction spread by the cosine."""
    a, b = pair(np.uint32(q[Q_SEED]), np.int64(q[Q_INDEX]), np.int64(q[Q_EVENT]) + DIM_DIRECTION)
    r, phi = math.sqrt(a), 2 * PI * b
    x, y, z = r * math.cos(phi), r * math.sin(phi), math.sqrt(max(0.0, 1.0 - a))
    nx, ny, nz = q[Q_NX], q[Q_NY], q[Q_NZ]
    (sx, sy, sz), (tx, ty, tz) = frame(nx, ny, nz)
    q[Q_DX] = x * sx + y * tx + z * nx
    q[Q_DY] = x * sy + y * ty + z * ny
    q[Q_DZ] = x * sz + y * tz + z * nz
    if q[Q_DX] * q[Q_GX] + q[Q_DY] * q[Q_GY] + q[Q_DZ] * q[Q_GZ] <= 0:
        return 0.0
    start_beside(q, 1.0)
    q[Q_FAR], q[Q_UNSEEN] = s[S_OCCLUSION_REACH], HIDDEN | NO_SHADOW
    closest(w, q, c, 0, ALL)
    return 1.0 if q[Q_INSTANCE] < 0 else 0.0


@linked
def _wires(w: Any, s: Any, q: Any) -> float:
    """Dark on the edges of triangles, about a pixel wide; light between, dimmed with the slant."""
    least = min(q[Q_BU], min(q[Q_BV], 1.0 - q[Q_BU] - q[Q_BV]))
    facing = abs(q[Q_GX] * q[Q_DX] + q[Q_GY] * q[Q_DY] + q[Q_GZ] * q[Q_DZ])
    pixel = (s[S_FLAT] + s[S_SPREAD] * q[Q_TRAVELLED]) / max(facing, 0.1)
    height = surface.least_height(w, q)
    shade = 0.25 + 0.75 * facing
    return shade * min(max(least * height / max(pixel, 1e-12) - 0.25, 0.05), 1.0)
