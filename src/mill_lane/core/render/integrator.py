"""Following one path from the camera, gathering light by aiming at lamps and by chance, weighed
against each other.

Next-event estimation and BSDF sampling are combined with the power heuristic (Veach and Guibas
1995), lobe by lobe: a lobe is sampled for itself, and each light component is that lobe's own
share.  A surface that lets light straight through (alpha, or thin clear glass) does not end a
segment: the same path and the same shadow ray go on behind it.

At the first event any component can get several rays: instead of choosing one lobe by chance, each
is sampled its own number of times.

All state stands in the path's scratch (`slots.Q_`): `w` is the world, `s` the settings, `q` the
path, `c` the counters.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render import bsdf, lights, materials, media, surface
from mill_lane.core.render.aiming import aim
from mill_lane.core.render.emission import add_glow, add_sky, sky_shines
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.light_bounds import meets_what_shines
from mill_lane.core.render.path import (
    DEAD,
    DIM_CHOICE,
    DIM_DIRECTION,
    DIM_END,
    DIM_FOG,
    EVENT,
    PARTICLE,
    SURFACE,
    add,
    component_of,
    count_ray,
    count_touches,
    numbers_of_event,
    start_beside,
    straight_on,
)
from mill_lane.core.render.pointers import f64_at, i64_at
from mill_lane.core.render.sampler import draw, drawn, mix, pair
from mill_lane.core.render.scatter import direction_to_world, scatter, vz, within_limits
from mill_lane.core.render.slots import *
from mill_lane.core.render.traverse import ALL, blocked, closest

PI, FAR = math.pi, lights.FAR
f64 = np.float64
MOST_EVENTS = 1000


@linked
def advance(w: Any, s: Any, q: Any, c: Any) -> int:
    """Follow the path's ray to the next event:

    DEAD, SURFACE or PARTICLE.  Light met on the way is added.
    """
    profile = 1 if s[S_PROFILE] > 0 else 0
    seed = np.uint32(q[Q_SEED])
    while q[Q_DIM] < EVENT * MOST_EVENTS:
        dim = np.int64(q[Q_DIM])
        q[Q_DIM] += EVENT
        index, depth, component = np.int64(q[Q_INDEX]), np.int64(q[Q_DEPTH]), component_of(q)
        q[Q_FAR] = FAR
        closest(w, q, c, profile, ALL)
        ray = np.int64(q[Q_LAST_KIND])
        if profile:
            count_ray(q, c, ray, depth, component)
        hit = q[Q_INSTANCE] >= 0
        length = q[Q_T] if hit else FAR
        if s[S_FOG] > 0 and media.crossed(w, q, length):
            # Fog first: does the ray meet a particle before the surface?
            u, _ = pair(seed, index, dim + DIM_FOG)
            boxes = f64_at(w[W_MEDIA])
            at, box = media.collide(
                boxes,
                w[W_MEDIA_COUNT],
                q[Q_OX],
                q[Q_OY],
                q[Q_OZ],
                q[Q_DX],
                q[Q_DY],
                q[Q_DZ],
                length,
                u,
            )
            if box >= 0:
                q[Q_PX], q[Q_PY], q[Q_PZ] = (
                    q[Q_OX] + at * q[Q_DX],
                    q[Q_OY] + at * q[Q_DY],
                    q[Q_OZ] + at * q[Q_DZ],
                )
                q[Q_TRAVELLED] += at
                q[Q_MEDIUM], q[Q_EVENT] = box, dim
                if s[S_PART] == PART_ALONE and _from_camera(q):
                    return DEAD
                share = (
                    boxes[MEDIUM_COLUMNS * box + D_SCATTER]
                    / boxes[MEDIUM_COLUMNS * box + D_EXTINCTION]
                )
                q[Q_TR], q[Q_TG], q[Q_TB] = q[Q_TR] * share, q[Q_TG] * share, q[Q_TB] * share
                return PARTICLE if share > 0 else DEAD
        if not hit:
            if s[S_PART] != PART_ALONE or not _from_camera(q):
                add_sky(w, s, q, component, depth)
            return DEAD
        q[Q_TRAVELLED] += length
        q[Q_SINCE] += length
        if q[Q_ABSORB_R] + q[Q_ABSORB_G] + q[Q_ABSORB_B] > 0:
            q[Q_TR] *= math.exp(-q[Q_ABSORB_R] * length)
            q[Q_TG] *= math.exp(-q[Q_ABSORB_G] * length)
            q[Q_TB] *= math.exp(-q[Q_ABSORB_B] * length)
        spread = s[S_SPREAD] if depth == 0 else q[Q_SPREAD]
        surface.place(w, q, s[S_FLAT] + spread * q[Q_TRAVELLED])
        materials.read_cover(w, q)
        material = np.int64(q[Q_MATERIAL])
        if profile:
            _count_hit(w, q, c, material)
        factors = materials.factors_of(w, material)
        # What belongs to another part of the scene hides and lets through, and gives nothing else.
        held_out = s[S_PART] != WHOLE and _from_camera(q) and _is_held_out(w, q)
        if not held_out:
            add_glow(w, s, q, factors, material, component, depth)
        sr, sg, sb = straight_on(w, s, q)
        if profile:
            count_touches(q, c, ray, depth, component)
        straight = min(max(0.2126 * sr + 0.7152 * sg + 0.0722 * sb, 0.0), 1.0)
        q[Q_EVENT] = dim
        if straight > 0:
            u, _ = pair(seed, index, dim + DIM_CHOICE)
            if u < straight:
                q[Q_LAYERS] += 1.0
                if q[Q_LAYERS] > s[S_LAYERS]:
                    return DEAD
                q[Q_TR], q[Q_TG], q[Q_TB] = (
                    q[Q_TR] * sr / straight,
                    q[Q_TG] * sg / straight,
                    q[Q_TB] * sb / straight,
                )
                start_beside(q, -1.0)
                q[Q_LAST_KIND] = R_STRAIGHT
                continue
            k = q[Q_COVER] / (1.0 - straight)
            q[Q_TR], q[Q_TG], q[Q_TB] = q[Q_TR] * k, q[Q_TG] * k, q[Q_TB] * k
        if held_out:
            return DEAD
        if factors[M_UNLIT] > 0:
            add(
                w,
                s,
                q,
                q[Q_TR] * q[Q_BR],
                q[Q_TG] * q[Q_BG],
                q[Q_TB] * q[Q_BB],
                component,
                -1,
                depth,
            )
            _record(w, s, q)
            return DEAD
        if factors[M_TRANSMIT] <= 0:
            materials.read_material(w, q)
        return SURFACE
    return DEAD


@inner
def _from_camera(q: Any) -> bool:
    """Whether the path has met nothing yet but what it went straight through."""
    return (np.int64(q[Q_UNSEEN]) & NO_CAMERA) != 0


@inner
def _is_held_out(w: Any, q: Any) -> bool:
    met = np.int64(q[Q_INSTANCE]) * INSTANCE_COLUMNS
    return (i64_at(w[W_INSTANCES])[met + P_FLAGS] & HELD_OUT) != 0


@linked
def _count_hit(w: Any, q: Any, c: Any, material: int) -> None:
    first = C_INSTANCES + w[W_INSTANCE_COUNT] * INSTANCE_WORK
    c[C_INSTANCES + np.int64(q[Q_INSTANCE]) * INSTANCE_WORK + 2] += 1
    c[C_INSTANCES + np.int64(q[Q_INSTANCE]) * INSTANCE_WORK + 3] += np.int64(q[Q_TOUCHES])
    c[first + material * MATERIAL_WORK] += 1
    c[first + material * MATERIAL_WORK + 1] += np.int64(q[Q_TOUCHES])


@linked
def _may_find_light(w: Any, s: Any, q: Any, c: Any) -> bool:
    """Whether the last ray of a path, which only looks for light, has to be followed.

    Where it goes past everything that shines, only the sky is left, and whether anything stands
    before that is told sooner than what.
    """
    if w[W_SHINING_COUNT] < 0 or meets_what_shines(w, q):
        return True
    if not sky_shines(w, q):
        return False
    profile = 1 if s[S_PROFILE] > 0 else 0
    depth, component = np.int64(q[Q_DEPTH]), component_of(q)
    q[Q_FAR] = FAR
    shut = blocked(w, q, c, profile, np.int64(q[Q_UNSEEN]) | SEE_THROUGH)
    if profile:
        count_ray(q, c, np.int64(q[Q_LAST_KIND]), depth, component)
    if shut:
        return False
    if w[W_PANES] > 0 or (w[W_MEDIA_COUNT] > 0 and s[S_FOG] > 0):
        return True
    add_sky(w, s, q, component, depth)
    return False


@inner
def _is_thin(w: Any, s: Any, q: Any) -> bool:
    return materials.factors_of(w, np.int64(q[Q_MATERIAL]))[M_THICK] <= 0 or s[S_REFRACTION] <= 0


@inner
def _look_for_lamps(w: Any, s: Any, q: Any, event: int) -> None:
    q[Q_AIM_T] = 0.2126 * q[Q_TR] + 0.7152 * q[Q_TG] + 0.0722 * q[Q_TB]
    horizon = 1.0 if event == SURFACE and q[Q_CLEAR] <= 0 else 0.0
    lights.prepare_aim(w, s, q, q[Q_PX], q[Q_PY], q[Q_PZ], q[Q_GX], q[Q_GY], q[Q_GZ], horizon)


@linked
def follow(w: Any, s: Any, q: Any, c: Any, event: int) -> None:
    """Follow the path from an event to its end."""
    seed = np.uint32(q[Q_SEED])
    while event != DEAD:
        if not within_limits(s, q):
            return
        numbers = numbers_of_event(q)
        draw(numbers, seed, np.int64(q[Q_INDEX]), np.int64(q[Q_EVENT]))
        if s[S_EARLY_END] > 0 and q[Q_DEPTH] > 0:
            # Russian roulette: dim paths end by chance, those that go on count for the others.
            most = max(q[Q_TR], max(q[Q_TG], q[Q_TB])) / s[S_EARLY_END]
            if most < 1:
                u, _ = drawn(numbers, DIM_END)
                if u >= most:
                    return
                q[Q_TR], q[Q_TG], q[Q_TB] = q[Q_TR] / most, q[Q_TG] / most, q[Q_TB] / most
        a, b = drawn(numbers, DIM_DIRECTION)
        if event == PARTICLE:
            _look_for_lamps(w, s, q, event)
            aim(w, s, q, c, event, 1.0, 0.0, 0.0, 0.0, 1, False)
            if not scatter(w, s, q, event, 0, 1.0, 1, a, b, False):
                return
        else:
            thin = _is_thin(w, s, q)
            kd, kg, kc, kt = bsdf.chances(q, vz(q), thin, thin and bsdf.is_smooth(q))
            if kd + kg + kc + kt <= 0:
                return
            if not bsdf.only_mirrors(q, kd, kc):
                _look_for_lamps(w, s, q, event)
                aim(w, s, q, c, event, kd, kg, kc, kt, 1, thin)
            u = 0.0
            if max(max(kd, kg), max(kc, kt)) < 1.0:
                _, u = drawn(numbers, DIM_CHOICE)
            lobe, k = 3, kt
            if u < kd:
                lobe, k = 0, kd
            elif u < kd + kg:
                lobe, k = 1, kg
            elif u < kd + kg + kc or kt <= 0:
                lobe, k = (2, kc) if kc > 0 else (1, kg)
            if k <= 0 or not scatter(w, s, q, event, lobe, k, 1, a, b, thin):
                if s[S_PROFILE] > 0:
                    count_touches(
                        q, c, np.int64(q[Q_LAST_KIND]), np.int64(q[Q_DEPTH]), component_of(q)
                    )
                return
        if s[S_PROFILE] > 0:
            count_touches(q, c, np.int64(q[Q_LAST_KIND]), np.int64(q[Q_DEPTH]), component_of(q))
        if not within_limits(s, q) and not _may_find_light(w, s, q, c):
            return
        event = advance(w, s, q, c)


@linked
def branch(w: Any, s: Any, q: Any, c: Any, event: int) -> None:
    """At the first event: every component its own number of rays, each followed to its end."""
    if not within_limits(s, q):
        return
    seed, index, dim = np.uint32(q[Q_SEED]), np.int64(q[Q_INDEX]), np.int64(q[Q_EVENT])
    draw(numbers_of_event(q), seed, index, dim)
    aimed = max(np.int64(s[S_SPLIT_LIGHTS]), 1)
    thin = event == SURFACE and _is_thin(w, s, q)
    n0, n1, n2, n3 = np.int64(s[S_SPLIT_VOLUME]), np.int64(0), np.int64(0), np.int64(0)
    if event == SURFACE:
        kd, kg, kc, kt = bsdf.chances(q, vz(q), thin, thin and bsdf.is_smooth(q))
        n0 = np.int64(s[S_SPLIT_DIFFUSE]) if kd > 0 else np.int64(0)
        n1 = np.int64(s[S_SPLIT_SPECULAR]) if kg > 0 else np.int64(0)
        n2 = np.int64(s[S_SPLIT_SPECULAR]) if kc > 0 else np.int64(0)
        n3 = np.int64(s[S_SPLIT_TRANSMISSION]) if kt > 0 else np.int64(0)
    if event == PARTICLE or not bsdf.only_mirrors(q, f64(n0), f64(n2)):
        _look_for_lamps(w, s, q, event)
        aim(w, s, q, c, event, f64(n0), f64(n1), f64(n2), f64(n3), aimed, thin)
    for k in range(Q_SAVED_COUNT):
        q[Q_SAVED + k] = q[Q_TR + k]
    dx, dy, dz = q[Q_DX], q[Q_DY], q[Q_DZ]
    for lobe in range(4):
        n = n0 if lobe == 0 else (n1 if lobe == 1 else (n2 if lobe == 2 else n3))
        for j in range(n):
            for k in range(Q_SAVED_COUNT):
                q[Q_TR + k] = q[Q_SAVED + k]
            q[Q_DX], q[Q_DY], q[Q_DZ] = dx, dy, dz
            # Rays of one lobe are points of one sequence; lobes differ by their seed.
            q[Q_SEED], q[Q_INDEX] = mix(np.uint32(seed + np.uint32(lobe))), index * n + j
            a, b = pair(np.uint32(q[Q_SEED]), index * n + j, dim + DIM_DIRECTION)
            if scatter(w, s, q, event, lobe, np.float64(n), aimed, a, b, thin):
                if s[S_PROFILE] > 0:
                    count_touches(
                        q, c, np.int64(q[Q_LAST_KIND]), np.int64(q[Q_DEPTH]), component_of(q)
                    )
                if within_limits(s, q) or _may_find_light(w, s, q, c):
                    follow(w, s, q, c, advance(w, s, q, c))


@linked
def _record(w: Any, s: Any, q: Any) -> None:
    """What the first surface that scatters is: for the layers of the film."""
    if q[Q_RECORDED] > 0:
        return
    q[Q_RECORDED] = 1.0
    q[Q_ALBEDO], q[Q_ALBEDO + 1], q[Q_ALBEDO + 2] = q[Q_BR], q[Q_BG], q[Q_BB]
    q[Q_NORMAL], q[Q_NORMAL + 1], q[Q_NORMAL + 2] = q[Q_NX], q[Q_NY], q[Q_NZ]
    q[Q_DISTANCE], q[Q_PASSED] = q[Q_TRAVELLED], q[Q_LAYERS]
    q[Q_POSITION], q[Q_POSITION + 1], q[Q_POSITION + 2] = q[Q_PX], q[Q_PY], q[Q_PZ]
    met = np.int64(q[Q_INSTANCE])
    q[Q_OBJECT] = i64_at(w[W_INSTANCES])[met * INSTANCE_COLUMNS + P_OBJECT]
    q[Q_MET] = q[Q_INSTANCE]


@linked
def trace(w: Any, s: Any, q: Any, c: Any) -> None:
    """Follow a camera ray (Q_OX, Q_DX, Q_SEED, Q_INDEX, Q_TIME):

    its light to Q_OUT, what it met to Q_FEATURES.
    """
    q[Q_TR], q[Q_TG], q[Q_TB], q[Q_DENSITY] = 1.0, 1.0, 1.0, -1.0
    for k in range(Q_DEPTH, Q_SEED):
        q[k] = 0.0
    q[Q_DIM], q[Q_LAST_KIND], q[Q_SPREAD] = 1, R_CAMERA, s[S_SPREAD]
    q[Q_UNSEEN] = HIDDEN | NO_CAMERA
    event = advance(w, s, q, c)
    if event == DEAD:
        return
    if event == SURFACE:
        _record(w, s, q)
    view = np.int64(s[S_VIEW])
    if view != VIEW_LIGHT:
        for k in range(3 * 9):
            q[Q_OUT + k] = 0.0
        if event == SURFACE:
            shade = _occlusion(w, s, q, c) if view == VIEW_OCCLUSION else _wires(w, s, q)
            q[Q_OUT], q[Q_OUT + 1], q[Q_OUT + 2] = shade, shade, shade
        return
    if s[S_SPLIT] > 0:
        branch(w, s, q, c, event)
    else:
        follow(w, s, q, c, event)


@linked
def _occlusion(w: Any, s: Any, q: Any, c: Any) -> float:
    """1 where nothing stands within reach in a direction spread by the cosine."""
    a, b = pair(np.uint32(q[Q_SEED]), np.int64(q[Q_INDEX]), np.int64(q[Q_EVENT]) + DIM_DIRECTION)
    r, phi = math.sqrt(a), 2 * PI * b
    direction_to_world(q, r * math.cos(phi), r * math.sin(phi), math.sqrt(max(0.0, 1.0 - a)))
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
