"""Where paths go on from their events, and with what weight."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render import bsdf, materials, media, microfacet
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.lanes import alike, bits, most, root, where
from mill_lane.core.render.path import CAUSTIC_ALPHA, start_beside
from mill_lane.core.render.pointers import f64_at
from mill_lane.core.render.side_by_side import following, mask_of, own, put, take
from mill_lane.core.render.slots import *
from mill_lane.core.render.vec import (
    Vec3,
    dot,
    either,
    out_of,
    put_vector,
    times,
    vector_at,
    within,
)

PI = math.pi
F = np.float32


@inner
def unseen_by(lobe: int) -> Any:
    """The flag of places that a ray of this lobe does not see."""
    return NO_INDIRECT if lobe == 0 else (NO_TRANSMISSION if lobe == 3 else NO_REFLECTION)


@inner
def shading_frame(p: Any) -> Any:
    """Two directions across the shading normals of the paths' events, and the normals."""
    n = vector_at(p, Q_NX)
    (sx, sy, sz), (tx, ty, tz) = microfacet.frame(n.x, n.y, n.z)
    return Vec3(sx, sy, sz), Vec3(tx, ty, tz), n


@linked
def scatter_particle(w: Any, q: Any, rays: float, aimed: int, a: float, b: float) -> None:
    """Turn a path at a particle, to which there are `rays` (a probability, or a number of rays)."""
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
    q[Q_SOFT], q[Q_SINCE] = 1.0, 0.0
    q[Q_SPREAD] = max(q[Q_SPREAD], 0.05)
    q[Q_LAST_KIND], q[Q_UNSEEN] = R_VOLUME, HIDDEN | NO_INDIRECT


@linked
def scatter(w: Any, p: Any, paths: int, lobe: Any, rays: Any, aimed: int, a: Any, b: Any) -> int:
    """Turn some paths at their surfaces by one lobe (0 to 3) each, of which there are `rays` (a
    probability, or a number of rays); a and b are in [0, 1].  All are lanes.

    Sets the next rays, the throughput and the density; returns the paths that go on.
    """
    m = bsdf.material_at(p)
    frame = shading_frame(p)
    v = times(within(frame, vector_at(p, Q_DX)), F(-1))
    local = bsdf.sample(p, m, lobe, v, a, b)
    soft, through = lobe < F(0.5), lobe > F(2.5)
    coat = (lobe > F(1.5)) & ~through
    mirror = m.smooth & ~soft & ~coat
    lobes = bsdf.evaluate(p, m, v, local)
    f = _of_lobe(lobes, soft, coat, through)
    density = where(mirror, F(1), f.density)
    weight = f.colour
    if bits(mirror) != 0:
        weight = either(mirror, bsdf.smooth_weight(p, m, through, v.z), weight)
    goes = mask_of(paths) & (rays > F(0)) & (density > F(0))
    k = F(1) / where(goes, rays * density, F(1))
    t = vector_at(p, Q_TR)
    t = Vec3(t.x * weight.x * k, t.y * weight.y * k, t.z * weight.z * k)
    way = out_of(frame, local)
    side = dot(way, vector_at(p, Q_GX))
    goes = goes & (most(t.x, most(t.y, t.z)) > F(0)) & (side * local.z > F(0))
    _turn(p, goes, lobe, way, t)
    put(p, Q_DENSITY, where(mirror, F(-1), density * rays / F(aimed)), goes)
    on = bits(goes)
    left = on
    while left != 0:
        i, left = following(left)
        q = own(p, i)
        outwards = q[Q_DX] * q[Q_GX] + q[Q_DY] * q[Q_GY] + q[Q_DZ] * q[Q_GZ] > 0
        start_beside(q, 1.0 if outwards else -1.0)
    left = bits(goes & through & ~m.thin)
    while left != 0:
        i, left = following(left)
        q = own(p, i)
        inwards = materials.factors_of(w, np.int64(q[Q_MATERIAL]))
        entering = q[Q_FRONT] > 0
        q[Q_ABSORB_R] = inwards[M_ABSORB_R] if entering else 0.0
        q[Q_ABSORB_G] = inwards[M_ABSORB_G] if entering else 0.0
        q[Q_ABSORB_B] = inwards[M_ABSORB_B] if entering else 0.0
    return on


@inner
def _of_lobe(lobes: Any, soft: Any, coat: Any, through: Any) -> Any:
    """Of four lobes the one that each path goes on by."""
    f = bsdf.Lobe(
        either(soft, lobes[0].colour, lobes[1].colour),
        where(soft, lobes[0].density, lobes[1].density),
    )
    if bits(coat | through) == 0:
        return f
    f = bsdf.Lobe(either(coat, lobes[2].colour, f.colour), where(coat, lobes[2].density, f.density))
    return bsdf.Lobe(
        either(through, lobes[3].colour, f.colour), where(through, lobes[3].density, f.density)
    )


@inner
def _turn(p: Any, goes: Any, lobe: Any, way: Vec3, t: Vec3) -> None:
    """What is known of a path once it has been turned by a lobe."""
    soft, through = lobe < F(0.5), lobe > F(2.5)
    coat = (lobe > F(1.5)) & ~through
    put_vector(p, Q_TR, t, goes)
    put_vector(p, Q_DX, way, goes)
    alpha = where(coat, take(p, Q_COAT_ALPHA), take(p, Q_ROUGHNESS))
    kind = where(soft, F(DIFFUSE), where(through, F(THROUGH), F(GLOSSY)))
    first = take(p, Q_KIND)
    put(p, Q_KIND, where(first > F(NONE), first, kind), goes)
    was_soft = take(p, Q_SOFT) > F(0)
    caustic = was_soft & (alpha < F(CAUSTIC_ALPHA)) & ~soft
    put(p, Q_CAUSTIC, where(caustic, F(1), F(0)), goes)
    put(p, Q_SOFT, where(soft | was_soft, F(1), F(0)), goes)
    wider = where(soft, F(0.1), F(0.1) * root(alpha))
    put(p, Q_SPREAD, most(take(p, Q_SPREAD), wider), goes)
    one = alike(alpha, F(1))
    put(p, Q_COUNT_DIFFUSE, take(p, Q_COUNT_DIFFUSE) + one, goes & soft)
    put(p, Q_COUNT_THROUGH, take(p, Q_COUNT_THROUGH) + one, goes & through)
    put(p, Q_COUNT_GLOSSY, take(p, Q_COUNT_GLOSSY) + one, goes & ~soft & ~through)
    put(p, Q_DEPTH, take(p, Q_DEPTH) + one, goes & ~through)
    kind = where(soft, F(R_DIFFUSE), where(through, F(R_THROUGH), F(R_GLOSSY)))
    put(p, Q_LAST_KIND, kind, goes)
    unseen = where(soft, F(NO_INDIRECT), where(through, F(NO_TRANSMISSION), F(NO_REFLECTION)))
    put(p, Q_UNSEEN, unseen + F(HIDDEN), goes)
    put(p, Q_SINCE, alike(alpha, F(0)), goes)


@inner
def within_limits(s: Any, p: Any, paths: int) -> int:
    """Those of some paths that may still scatter where they are; the ray that came only went to
    see whether there is a lamp.
    """
    # Limits are whole numbers; what is beyond a float32's is as good as none.
    return paths & bits(
        (take(p, Q_DEPTH) <= F(s[S_BOUNCES]))
        & (take(p, Q_COUNT_DIFFUSE) <= F(s[S_DIFFUSE]))
        & (take(p, Q_COUNT_GLOSSY) <= F(s[S_SPECULAR]))
        & (take(p, Q_COUNT_THROUGH) <= F(s[S_TRANSMISSION]))
        & (take(p, Q_COUNT_VOLUME) <= F(s[S_VOLUME]))
    )
