"""Where a path goes on from an event, and with what weight."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render import bsdf, materials, media, microfacet
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.path import (
    CAUSTIC_ALPHA,
    PARTICLE,
    start_beside,
)
from mill_lane.core.render.pointers import f64_at
from mill_lane.core.render.slots import *

PI = math.pi


@linked
def direction_to_world(q: Any, x: float, y: float, z: float) -> None:
    """Turn a direction of the shading frame into the world, and aim the path along it."""
    nx, ny, nz = q[Q_NX], q[Q_NY], q[Q_NZ]
    (sx, sy, sz), (tx, ty, tz) = microfacet.frame(nx, ny, nz)
    q[Q_DX], q[Q_DY], q[Q_DZ] = (
        x * sx + y * tx + z * nx,
        x * sy + y * ty + z * ny,
        x * sz + y * tz + z * nz,
    )


@inner
def unseen_by(lobe: int) -> Any:
    """The flag of places that a ray of this lobe does not see."""
    return NO_INDIRECT if lobe == 0 else (NO_TRANSMISSION if lobe == 3 else NO_REFLECTION)


@linked
def scatter(
    w: Any,
    s: Any,
    q: Any,
    event: int,
    lobe: int,
    rays: float,
    aimed: int,
    a: float,
    b: float,
    thin: bool,
) -> bool:
    """Turn the path at the event by one lobe, of which there are `rays` (a probability, or a number
    of rays).

    Sets the next ray, the throughput and the density; returns False where the path ends.
    """
    q[Q_SINCE] = 0.0
    if event == PARTICLE:
        g = f64_at(w[W_MEDIA])[MEDIUM_COLUMNS * np.int64(q[Q_MEDIUM]) + D_G]
        cosine = media.sample_phase(g, a)
        (sx, sy, sz), (tx, ty, tz) = microfacet.frame(q[Q_DX], q[Q_DY], q[Q_DZ])
        sine = math.sqrt(max(0.0, 1 - cosine * cosine))
        x, y = sine * math.cos(2 * PI * b), sine * math.sin(2 * PI * b)
        q[Q_DX], q[Q_DY], q[Q_DZ] = (
            x * sx + y * tx + cosine * q[Q_DX],
            x * sy + y * ty + cosine * q[Q_DY],
            x * sz + y * tz + cosine * q[Q_DZ],
        )
        q[Q_OX], q[Q_OY], q[Q_OZ] = q[Q_PX], q[Q_PY], q[Q_PZ]
        q[Q_DENSITY] = media.phase(g, cosine) * rays / aimed
        q[Q_TR], q[Q_TG], q[Q_TB] = q[Q_TR] / rays, q[Q_TG] / rays, q[Q_TB] / rays
        if q[Q_KIND] == NONE:
            q[Q_KIND] = VOLUME
        q[Q_COUNT_VOLUME] += 1.0
        q[Q_DEPTH] += 1.0
        q[Q_SOFT] = 1.0
        q[Q_SPREAD] = max(q[Q_SPREAD], 0.05)
        q[Q_LAST_KIND], q[Q_UNSEEN] = R_VOLUME, HIDDEN | NO_INDIRECT
        return True
    dx, dy, dz, nx, ny, nz = q[Q_DX], q[Q_DY], q[Q_DZ], q[Q_NX], q[Q_NY], q[Q_NZ]
    (sx, sy, sz), (tx, ty, tz) = microfacet.frame(nx, ny, nz)
    vx, vy, vz = (
        -(dx * sx + dy * sy + dz * sz),
        -(dx * tx + dy * ty + dz * tz),
        -(dx * nx + dy * ny + dz * nz),
    )
    x, y, z = bsdf.sample(q, lobe, vx, vy, vz, a, b, thin)
    if z == 0:
        return False
    if (lobe == 1 or lobe == 3) and bsdf.is_smooth(q):
        r, g, bl = bsdf.smooth_weight(q, lobe, vz, thin)
        q[Q_DENSITY] = -1.0
        k = 1.0 / rays
    else:
        bsdf.evaluate(q, vx, vy, vz, x, y, z, thin, lobe)
        at = Q_LOBES + 4 * lobe
        r, g, bl, density = q[at], q[at + 1], q[at + 2], q[at + 3]
        if density <= 0:
            return False
        k = 1.0 / (rays * density)
        q[Q_DENSITY] = density * rays / aimed
    q[Q_TR], q[Q_TG], q[Q_TB] = q[Q_TR] * r * k, q[Q_TG] * g * k, q[Q_TB] * bl * k
    if max(q[Q_TR], max(q[Q_TG], q[Q_TB])) <= 0:
        return False
    q[Q_DX], q[Q_DY], q[Q_DZ] = (
        x * sx + y * tx + z * nx,
        x * sy + y * ty + z * ny,
        x * sz + y * tz + z * nz,
    )
    side = q[Q_DX] * q[Q_GX] + q[Q_DY] * q[Q_GY] + q[Q_DZ] * q[Q_GZ]
    if side * z <= 0:
        return False
    alpha = q[Q_COAT_ALPHA] if lobe == 2 else q[Q_ROUGHNESS]
    kind = DIFFUSE if lobe == 0 else (THROUGH if lobe == 3 else GLOSSY)
    if q[Q_KIND] == NONE:
        q[Q_KIND] = kind
    if lobe == 0:
        q[Q_COUNT_DIFFUSE] += 1.0
        q[Q_SOFT], q[Q_CAUSTIC] = 1.0, 0.0
        q[Q_SPREAD] = max(q[Q_SPREAD], 0.1)
    else:
        q[Q_CAUSTIC] = 1.0 if q[Q_SOFT] > 0 and alpha < CAUSTIC_ALPHA else 0.0
        q[Q_SPREAD] = max(q[Q_SPREAD], 0.1 * math.sqrt(alpha))
    if lobe == 3:
        q[Q_COUNT_THROUGH] += 1.0
        if not thin:
            f = materials.factors_of(w, np.int64(q[Q_MATERIAL]))
            entering = q[Q_FRONT] > 0
            q[Q_ABSORB_R] = f[M_ABSORB_R] if entering else 0.0
            q[Q_ABSORB_G] = f[M_ABSORB_G] if entering else 0.0
            q[Q_ABSORB_B] = f[M_ABSORB_B] if entering else 0.0
    else:
        q[Q_DEPTH] += 1.0
        if lobe > 0:
            q[Q_COUNT_GLOSSY] += 1.0
    q[Q_LAST_KIND] = R_DIFFUSE if lobe == 0 else (R_THROUGH if lobe == 3 else R_GLOSSY)
    q[Q_UNSEEN] = HIDDEN | unseen_by(lobe)
    start_beside(q, 1.0 if side > 0 else -1.0)
    return True


@linked
def within_limits(s: Any, q: Any) -> bool:
    """Whether the path may still scatter here; the ray that came only went to see whether there is
    a lamp.
    """
    return (
        q[Q_DEPTH] <= s[S_BOUNCES]
        and q[Q_COUNT_DIFFUSE] <= s[S_DIFFUSE]
        and q[Q_COUNT_GLOSSY] <= s[S_SPECULAR]
        and q[Q_COUNT_THROUGH] <= s[S_TRANSMISSION]
        and q[Q_COUNT_VOLUME] <= s[S_VOLUME]
    )


@linked
def vz(q: Any) -> float:
    """The cosine between the path's way back and the shading normal."""
    return -(q[Q_DX] * q[Q_NX] + q[Q_DY] * q[Q_NY] + q[Q_DZ] * q[Q_NZ])
