"""Next-event estimation: a path's event looks at lamps, and gathers what arrives of them.

What is found by aiming and what is found by chance are weighed against each other with the power
heuristic (Veach and Guibas 1995), lobe by lobe.  A surface that lets light straight through does
not end a shadow ray: it goes on behind.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render import bsdf, lights, materials, media, surface
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.lanes import bits, where
from mill_lane.core.render.path import (
    CAUSTIC_ALPHA,
    DIM_LAMP,
    DIM_POINT,
    add,
    count_ray,
    drawn,
    start_beside,
    straight_on,
)
from mill_lane.core.render.pointers import f64_at
from mill_lane.core.render.sampler import mix, pair
from mill_lane.core.render.scatter import shading_frame, unseen_by
from mill_lane.core.render.side_by_side import (
    all_of,
    bit,
    following,
    group,
    mask_of,
    masks,
    number_of,
    own,
    take,
)
from mill_lane.core.render.slots import *
from mill_lane.core.render.traverse import (
    ONLY_SEE_THROUGH,
    OPAQUE_SHADOWS,
    blocked,
    closest,
    ray_of,
)
from mill_lane.core.render.vec import dot, put_vector, times, vector_at, within

F = np.float32
FAR = lights.FAR
SHORT_OF = 1.0 - 4e-6  # of the way to a lamp: what is looked for lies before it


@linked
def _visible(w: Any, s: Any, q: Any, c: Any, depth: int, component: int, lamp: int) -> None:
    """The share of light that arrives along the ray (Q_OX, Q_DX, Q_FAR), by colour:

    Q_VR, Q_VG, Q_VB.
    """
    profile = 1 if s[S_PROFILE] > 0 else 0
    q[Q_VR], q[Q_VG], q[Q_VB] = 1.0, 1.0, 1.0
    if s[S_SHADOWS] <= 0:
        return
    distance = q[Q_FAR]
    shut = blocked(w, q, c, profile, OPAQUE_SHADOWS)
    if profile:
        _count_shadow(w, q, c, depth, component, lamp)
    if shut:
        q[Q_VR], q[Q_VG], q[Q_VB] = 0.0, 0.0, 0.0
        return
    if w[W_MEDIA_COUNT] > 0 and s[S_FOG] > 0:
        k = media.transmittance(
            f64_at(w[W_MEDIA]),
            w[W_MEDIA_COUNT],
            ray_of(q),
            distance,
        )
        q[Q_VR], q[Q_VG], q[Q_VB] = k, k, k
    if w[W_SEE_THROUGH] == 0:
        return
    left, layers = distance, 0.0
    aside = False
    while True:
        q[Q_FAR] = left
        closest(w, q, c, profile, ONLY_SEE_THROUGH)
        if profile:
            _count_shadow(w, q, c, depth, component, lamp)
        if q[Q_INSTANCE] < 0:
            break
        if not aside:
            aside = True
            for at in range(0, ASIDE, SIDE):
                q[Q_ASIDE + at] = q[Q_EVENT + at]
        layers += 1.0
        length = q[Q_T]
        q[Q_CONE] = 1e-3
        surface.place(w, all_of(q), bit(number_of(q)))
        materials.read_cover(w, q)
        straight_on(w, s, all_of(q), bit(number_of(q)))
        q[Q_VR] *= q[Q_STRAIGHT_R]
        q[Q_VG] *= q[Q_STRAIGHT_G]
        q[Q_VB] *= q[Q_STRAIGHT_B]
        if layers > s[S_LAYERS] or q[Q_VR] + q[Q_VG] + q[Q_VB] < 1e-6:
            q[Q_VR], q[Q_VG], q[Q_VB] = 0.0, 0.0, 0.0
            break
        start_beside(q, -1.0)
        left -= length * 1.000001 + q[Q_RAY_EPSILON]
        if left <= 0:
            break
    if aside:
        for at in range(0, ASIDE, SIDE):
            q[Q_EVENT + at] = q[Q_ASIDE + at]


@inner
def _work_of_lamp(w: Any, lamp: int) -> Any:
    """Where the counters of a lamp begin."""
    first = w[W_INSTANCE_COUNT] * INSTANCE_WORK + w[W_MATERIAL_COUNT] * MATERIAL_WORK
    return C_INSTANCES + first + lamp * LAMP_WORK


@linked
def _count_shadow(w: Any, q: Any, c: Any, depth: int, component: int, lamp: int) -> None:
    count_ray(q, c, R_SHADOW, depth, component)
    at = _work_of_lamp(w, lamp)
    c[at] += 1
    c[at + 1] += np.int64(q[Q_NODES])
    c[at + 2] += np.int64(q[Q_LEAVES])


@inner
def _balanced(a: float, b: float) -> float:
    """The power heuristic with exponent 2."""
    return a * a / (a * a + b * b) if a > 0 else 0.0


@linked
def aim(w: Any, s: Any, b: Any, c: Any, rays: int) -> None:
    """Light from lamps at the events of paths (M_SEEING, M_PARTICLES); `rays` are aimed from each.

    Q_RAYS has the rays of each lobe.
    """
    if w[W_LAMP_COUNT] == 0 or s[S_AIM] <= 0:
        return
    for g in range(GROUPS):
        p = group(w, b, g)
        m = masks(p)
        left = m[M_SEEING] | m[M_PARTICLES]
        while left != 0:
            k, left = following(left)
            q = own(p, k)
            _look_for_lamps(w, s, q, m[M_SEEING] & bit(k) != 0)
            q[Q_WAY_X], q[Q_WAY_Y], q[Q_WAY_Z] = q[Q_DX], q[Q_DY], q[Q_DZ]
    every = s[S_CHOICE] == ALL_LIGHTS
    for j in range(rays):
        for turn in range(w[W_LAMP_COUNT] if every else 1):
            for g in range(GROUPS):
                _pick_points(w, s, group(w, b, g), every, turn, rays, j)
            for g in range(GROUPS):
                _gather(w, s, group(w, b, g), c, rays)


@linked
def _pick_points(w: Any, s: Any, p: Any, every: bool, turn: int, rays: int, j: int) -> None:
    """Pick points on lamps for a group, and see what surfaces make of them: M_LIT."""
    m = masks(p)
    left, lit = m[M_SEEING] | m[M_PARTICLES], np.int64(0)
    while left != 0:
        k, left = following(left)
        if _point_on_lamp(w, s, own(p, k), every, turn, rays, j):
            lit |= bit(k)
    surfaces = lit & m[M_SEEING]
    m[M_LIT] = lit & m[M_PARTICLES]
    if surfaces != 0:
        m[M_LIT] |= _weigh(w, s, p, surfaces, rays)


@linked
def _gather(w: Any, s: Any, p: Any, c: Any, rays: int) -> None:
    """Add what arrives of the points just picked."""
    m = masks(p)
    left = m[M_LIT]
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        if m[M_PARTICLES] & bit(k) != 0:
            _to_particle(w, s, q, c, rays)
        else:
            _to_surface(w, s, q, c)
        q[Q_DX], q[Q_DY], q[Q_DZ] = q[Q_WAY_X], q[Q_WAY_Y], q[Q_WAY_Z]


@inner
def _look_for_lamps(w: Any, s: Any, q: Any, at_surface: bool) -> None:
    """See which lamps matter at the path's event."""
    q[Q_AIM_T] = 0.2126 * q[Q_TR] + 0.7152 * q[Q_TG] + 0.0722 * q[Q_TB]
    horizon = 1.0 if at_surface and q[Q_CLEAR] <= 0 else 0.0
    lights.prepare_aim(w, s, q, q[Q_PX], q[Q_PY], q[Q_PZ], q[Q_GX], q[Q_GY], q[Q_GZ], horizon)


@linked
def _point_on_lamp(w: Any, s: Any, q: Any, every: bool, turn: int, rays: int, j: int) -> bool:
    """Pick a lamp and a point on it for the path; whether there is one."""
    if every:
        q[Q_LNUMBER] = turn
    if rays > 1 or every:
        seed, index = np.uint32(q[Q_SEED]), np.int64(q[Q_INDEX]) * rays + j
        if every:
            seed = mix(np.uint32(seed + np.uint32(turn) * np.uint32(0x9E3779B9)))
        dim = np.int64(q[Q_EVENT])
        u, v = pair(seed, index, dim + DIM_LAMP)
        a, b = pair(seed, index, dim + DIM_POINT)
    else:
        u, v = drawn(q, DIM_LAMP)
        a, b = drawn(q, DIM_POINT)
    if every:
        lamp, chance, u = np.int64(turn), lights.lamp_chance(w, s, q, turn), v
    else:
        lamp, chance, u = lights.pick_lamp(w, s, q, u)
    if lamp < 0 or chance <= 0:
        return False
    q[Q_LNUMBER] = lamp
    return lights.sample_lamp(w, q, lamp, chance, u, a, b)


@inner
def _is_first(q: Any) -> bool:
    """Whether the path has not been scattered yet."""
    return q[Q_COUNT_DIFFUSE] + q[Q_COUNT_GLOSSY] + q[Q_COUNT_THROUGH] + q[Q_COUNT_VOLUME] == 0


@linked
def _to_particle(w: Any, s: Any, q: Any, c: Any, rays: int) -> None:
    """The light of the lamp point just picked that a particle turns into the path."""
    lamp = np.int64(q[Q_LNUMBER])
    # What is found by chance is not seen by some lobes: nor is it then by aiming.
    if np.int64(lights.lamp_row(w, lamp)[L_UNSEEN]) & NO_INDIRECT:
        return
    depth, kind = np.int64(q[Q_DEPTH]), np.int64(q[Q_KIND])
    lx, ly, lz = q[Q_LX], q[Q_LY], q[Q_LZ]
    g = f64_at(w[W_MEDIA])[MEDIUM_COLUMNS * np.int64(q[Q_MEDIUM]) + D_G]
    f = media.phase(g, lx * q[Q_DX] + ly * q[Q_DY] + lz * q[Q_DZ])
    density = rays * q[Q_LCHANCE]
    k = f / density * (1.0 if q[Q_LDELTA] > 0 else _balanced(density, q[Q_RAYS] * f))
    component = 4 if _is_first(q) else kind + 4
    q[Q_OX], q[Q_OY], q[Q_OZ] = q[Q_PX], q[Q_PY], q[Q_PZ]
    q[Q_DX], q[Q_DY], q[Q_DZ], q[Q_FAR] = lx, ly, lz, q[Q_LDIST] * SHORT_OF
    _visible(w, s, q, c, depth, component, lamp)
    r = q[Q_TR] * q[Q_VR] * q[Q_LR] * k
    g = q[Q_TG] * q[Q_VG] * q[Q_LG] * k
    b = q[Q_TB] * q[Q_VB] * q[Q_LB] * k
    add(w, s, q, r, g, b, component, lamp, depth + 1)


@linked
def _weigh(w: Any, s: Any, p: Any, paths: int, rays: int) -> int:
    """What each lobe of some paths' surfaces makes of the lamp points just picked, weighed against
    finding them by chance: Q_LOBES.  Returns those for which it is anything.
    """
    m, frame = bsdf.material_at(p), shading_frame(p)
    light = vector_at(p, Q_LX)
    way = within(frame, light)
    # Where not, the bent normal and the flat one disagree about the side.
    agreed = dot(light, vector_at(p, Q_GX)) * way.z > F(0)
    v = times(within(frame, vector_at(p, Q_DX)), F(-1))
    lobes = bsdf.evaluate(p, m, v, way)
    delta = take(p, Q_LDELTA) > F(0)
    density = take(p, Q_LCHANCE) * F(rays)
    weighed = mask_of(paths) & agreed & (density > F(0))
    each = F(1) / where(weighed, density, F(1))
    sharp = (take(p, Q_SOFT) > F(0)) & weighed
    if s[S_CAUSTICS] > 0:
        sharp = sharp & ~weighed
    soft, gloss, varnish, through = lobes
    some = _keep_lobe(p, 0, soft, each, delta, weighed)
    each_sharp = where(sharp & (m.alpha < F(CAUSTIC_ALPHA)), F(0), each)
    some = some | _keep_lobe(p, 1, gloss, each_sharp, delta, weighed)
    some = some | _keep_lobe(p, 3, through, each_sharp, delta, weighed)
    each_sharp = where(sharp & (m.coat_alpha < F(CAUSTIC_ALPHA)), F(0), each)
    some = some | _keep_lobe(p, 2, varnish, each_sharp, delta, weighed)
    return _seen_by_lobes(w, p, bits(some))


@inner
def _keep_lobe(p: Any, lobe: int, f: bsdf.Lobe, each: Any, delta: Any, weighed: Any) -> Any:
    """Keep a lobe, weighed with the power heuristic; where it is anything."""
    ratio = f.density * take(p, Q_RAYS + SIDE * lobe) * each
    colour = times(f.colour, where(delta, each, each / (F(1) + ratio * ratio)))
    put_vector(p, Q_LOBES + 4 * SIDE * lobe, colour, weighed)
    return weighed & (colour.x + colour.y + colour.z > F(0))


@linked
def _seen_by_lobes(w: Any, p: Any, paths: int) -> int:
    """Those of some paths that see the lamps that they picked: what is found by chance is not seen
    by some lobes, nor is it then by aiming.
    """
    left = paths
    while left != 0:
        i, left = following(left)
        q = own(p, i)
        unseen = np.int64(lights.lamp_row(w, np.int64(q[Q_LNUMBER]))[L_UNSEEN])
        if unseen == 0:
            continue
        weight = 0.0
        for lobe in range(4):
            at = Q_LOBES + 4 * SIDE * lobe
            if unseen & unseen_by(lobe):
                q[at], q[at + SIDE], q[at + 2 * SIDE] = 0.0, 0.0, 0.0
            weight += q[at] + q[at + SIDE] + q[at + 2 * SIDE]
        if weight <= 0:
            paths &= ~bit(i)
    return paths


@linked
def _to_surface(w: Any, s: Any, q: Any, c: Any) -> None:
    """The light of the lamp point just weighed, where nothing stands between."""
    lx, ly, lz = q[Q_LX], q[Q_LY], q[Q_LZ]
    lamp, depth, kind = np.int64(q[Q_LNUMBER]), np.int64(q[Q_DEPTH]), np.int64(q[Q_KIND])
    first = _is_first(q)
    far = q[Q_LDIST] * SHORT_OF
    above = lx * q[Q_GX] + ly * q[Q_GY] + lz * q[Q_GZ]
    start_beside(q, 1.0 if above > 0 else -1.0)
    q[Q_DX], q[Q_DY], q[Q_DZ], q[Q_FAR] = lx, ly, lz, far
    if far < 0.5 * FAR:
        # From where the ray really starts, or it would run into the lamp itself.
        reach = q[Q_LDIST]
        x, y, z = (
            q[Q_PX] + reach * lx - q[Q_OX],
            q[Q_PY] + reach * ly - q[Q_OY],
            q[Q_PZ] + reach * lz - q[Q_OZ],
        )
        reach = math.sqrt(x * x + y * y + z * z)
        q[Q_DX], q[Q_DY], q[Q_DZ], q[Q_FAR] = x / reach, y / reach, z / reach, reach * SHORT_OF
    soft, gloss = Q_LOBES, Q_LOBES + 4 * SIDE
    brightest = 1 if q[soft] + q[soft + SIDE] >= q[gloss] + q[gloss + SIDE] else 2
    _visible(w, s, q, c, depth, brightest if first else kind + 4, lamp)
    if q[Q_VR] + q[Q_VG] + q[Q_VB] <= 0:
        return
    if s[S_PROFILE] > 0:
        c[_work_of_lamp(w, lamp) + 3] += 1
    r, g, b = q[Q_TR] * q[Q_VR] * q[Q_LR], q[Q_TG] * q[Q_VG] * q[Q_LG], q[Q_TB] * q[Q_VB] * q[Q_LB]
    for lobe in range(4):
        at = Q_LOBES + 4 * SIDE * lobe
        x, y, z = q[at], q[at + SIDE], q[at + 2 * SIDE]
        if x + y + z > 0:
            direct = DIFFUSE if lobe == 0 else (THROUGH if lobe == 3 else GLOSSY)
            component = direct if first else kind + 4
            add(w, s, q, r * x, g * y, b * z, component, lamp, depth + 1)
