"""From a ray to the next event of its path: what it meets, light that is found there by chance, and
whether it goes straight on.

`w` is the world, `s` the settings, `b` a batch of paths, `p` a group of it, `q` a path, `c` the
counters.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render import lights, materials, media, surface
from mill_lane.core.render.emission import add_glow, add_sky, sky_shines
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.light_bounds import meets_what_shines
from mill_lane.core.render.path import (
    DEAD,
    DIM_CHOICE,
    DIM_FOG,
    EVENT,
    PARTICLE,
    STRAIGHT,
    SURFACE,
    add,
    component_of,
    count_ray,
    count_touches,
    draw_choice,
    drawn,
    start_beside,
    straight_on,
)
from mill_lane.core.render.pointers import f64_at, i64_at
from mill_lane.core.render.sampler import pair
from mill_lane.core.render.scatter import within_limits
from mill_lane.core.render.side_by_side import (
    bit,
    following,
    group,
    masks,
    own,
)
from mill_lane.core.render.slots import *
from mill_lane.core.render.traverse import ALL, blocked, closest, ray_of

FAR = lights.FAR
MOST_EVENTS = 1000


@linked
def advance(w: Any, s: Any, b: Any, c: Any) -> None:
    """Follow the rays of paths (M_GOING) to their next events: M_SURFACES and M_PARTICLES.

    The others have ended.  Light met on the way is added.
    """
    for g in range(GROUPS):
        m = masks(group(w, b, g))
        m[M_SURFACES], m[M_PARTICLES], m[M_SEEING] = 0, 0, 0
    some = True
    while some:
        for g in range(GROUPS):
            _follow_rays(w, s, group(w, b, g), c)
        some = False
        for g in range(GROUPS):
            p = group(w, b, g)
            if masks(p)[M_HITS] != 0:
                _reach_surfaces(w, s, p, c)
            some = some or masks(p)[M_GOING] != 0


@linked
def _follow_rays(w: Any, s: Any, p: Any, c: Any) -> None:
    """Follow the rays of a group, to M_HITS or M_PARTICLES."""
    m = masks(p)
    left, hits = m[M_GOING], np.int64(0)
    while left != 0:
        k, left = following(left)
        met = _meet(w, s, own(p, k), c)
        if met == SURFACE:
            hits |= bit(k)
        elif met == PARTICLE:
            m[M_PARTICLES] |= bit(k)
    m[M_HITS], m[M_GOING] = hits, 0


@linked
def _reach_surfaces(w: Any, s: Any, p: Any, c: Any) -> None:
    """See what becomes of the paths of a group that hit something (M_HITS): those that go straight
    on to M_GOING, those that scatter to M_SURFACES.
    """
    m = masks(p)
    surface.place(w, p, m[M_HITS])
    left = m[M_HITS]
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        materials.read_cover(w, q)
    through = straight_on(w, s, p, m[M_HITS])
    if through != 0:
        draw_choice(p, through)
    left = m[M_HITS]
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        met = _goes_on(w, s, q, c)
        if met == STRAIGHT:
            m[M_GOING] |= bit(k)
        elif met == SURFACE:
            m[M_SURFACES] |= bit(k)
            if materials.factors_of(w, np.int64(q[Q_MATERIAL]))[M_TRANSMIT] <= 0:
                materials.read_material(w, q)


@linked
def _meet(w: Any, s: Any, q: Any, c: Any) -> int:
    """What the path's ray meets: DEAD, SURFACE or PARTICLE."""
    if q[Q_DIM] >= EVENT * MOST_EVENTS:
        return DEAD
    profile = 1 if s[S_PROFILE] > 0 else 0
    q[Q_EVENT] = q[Q_DIM]
    q[Q_DIM] += EVENT
    depth, component = np.int64(q[Q_DEPTH]), component_of(q)
    q[Q_FAR] = FAR
    closest(w, q, c, profile, ALL)
    if profile:
        count_ray(q, c, np.int64(q[Q_LAST_KIND]), depth, component)
    hit = q[Q_INSTANCE] >= 0
    length = q[Q_T] if hit else FAR
    if s[S_FOG] > 0 and media.crossed(w, q, length):
        # Fog first: does the ray meet a particle before the surface?
        seed, index = np.uint32(q[Q_SEED]), np.int64(q[Q_INDEX])
        u, _ = pair(seed, index, np.int64(q[Q_EVENT]) + DIM_FOG)
        boxes = f64_at(w[W_MEDIA])
        at, box = media.collide(
            boxes,
            w[W_MEDIA_COUNT],
            ray_of(q),
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
            q[Q_MEDIUM] = box
            if s[S_PART] == PART_ALONE and _from_camera(q):
                return DEAD
            share = (
                boxes[MEDIUM_COLUMNS * box + D_SCATTER] / boxes[MEDIUM_COLUMNS * box + D_EXTINCTION]
            )
            q[Q_TR], q[Q_TG], q[Q_TB] = q[Q_TR] * share, q[Q_TG] * share, q[Q_TB] * share
            return PARTICLE if share > 0 else DEAD
    if not hit:
        if s[S_PART] != PART_ALONE or not _from_camera(q):
            add_sky(w, s, q, component, depth)
        return DEAD
    surface.ask_for_triangle(w, q)
    q[Q_TRAVELLED] += length
    q[Q_SINCE] += length
    if q[Q_ABSORB_R] + q[Q_ABSORB_G] + q[Q_ABSORB_B] > 0:
        q[Q_TR] *= math.exp(-q[Q_ABSORB_R] * length)
        q[Q_TG] *= math.exp(-q[Q_ABSORB_G] * length)
        q[Q_TB] *= math.exp(-q[Q_ABSORB_B] * length)
    spread = s[S_SPREAD] if depth == 0 else q[Q_SPREAD]
    q[Q_CONE] = s[S_FLAT] + spread * q[Q_TRAVELLED]
    return SURFACE


@linked
def _goes_on(w: Any, s: Any, q: Any, c: Any) -> int:
    """What becomes of a path at the surface that it hit: DEAD, STRAIGHT, or SURFACE where it
    scatters.  What the surface gives off is added.
    """
    profile = 1 if s[S_PROFILE] > 0 else 0
    material = np.int64(q[Q_MATERIAL])
    depth, component = np.int64(q[Q_DEPTH]), component_of(q)
    if profile:
        _count_hit(w, q, c, material)
    factors = materials.factors_of(w, material)
    # What belongs to another part of the scene hides and lets through, and gives nothing else.
    held_out = s[S_PART] != WHOLE and _from_camera(q) and _is_held_out(w, q)
    if not held_out:
        if q[Q_LAYERS] == 0 and q[Q_RECORDED] <= 0:
            q[Q_OPACITY] = q[Q_COVER]
        add_glow(w, s, q, factors, material, component, depth)
    sr, sg, sb = q[Q_STRAIGHT_R], q[Q_STRAIGHT_G], q[Q_STRAIGHT_B]
    if profile:
        count_touches(q, c, np.int64(q[Q_LAST_KIND]), depth, component)
    straight = min(max(0.2126 * sr + 0.7152 * sg + 0.0722 * sb, 0.0), 1.0)
    if straight > 0:
        u, _ = drawn(q, DIM_CHOICE)
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
            return STRAIGHT
        k = q[Q_COVER] / (1.0 - straight)
        q[Q_TR], q[Q_TG], q[Q_TB] = q[Q_TR] * k, q[Q_TG] * k, q[Q_TB] * k
    if held_out:
        return DEAD
    if factors[M_UNLIT] > 0:
        r, g, b = q[Q_TR] * q[Q_BR], q[Q_TG] * q[Q_BG], q[Q_TB] * q[Q_BB]
        add(w, s, q, r, g, b, component, -1, depth)
        q[Q_ROUGHNESS], q[Q_METAL] = 1.0, 0.0  # what shines by itself has neither
        record(w, s, q)
        return DEAD
    return SURFACE


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


@linked
def look_ahead(w: Any, s: Any, b: Any, c: Any) -> None:
    """Leave out the paths (M_GOING) that cannot scatter again and will find no light."""
    for g in range(GROUPS):
        p = group(w, b, g)
        m = masks(p)
        on = within_limits(s, p, m[M_GOING])
        left = m[M_GOING] & ~on
        while left != 0:
            k, left = following(left)
            if _may_find_light(w, s, own(p, k), c):
                on |= bit(k)
        m[M_GOING] = on


@linked
def record(w: Any, s: Any, q: Any) -> None:
    """What the first surface that scatters is: for the layers of the film."""
    if q[Q_RECORDED] > 0:
        return
    q[Q_RECORDED] = 1.0
    q[Q_ALBEDO], q[Q_ALBEDO_G], q[Q_ALBEDO_B] = q[Q_BR], q[Q_BG], q[Q_BB]
    q[Q_NORMAL], q[Q_NORMAL_Y], q[Q_NORMAL_Z] = q[Q_NX], q[Q_NY], q[Q_NZ]
    q[Q_DISTANCE], q[Q_PASSED] = q[Q_TRAVELLED], q[Q_LAYERS]
    q[Q_POSITION], q[Q_POSITION_Y], q[Q_POSITION_Z] = q[Q_PX], q[Q_PY], q[Q_PZ]
    q[Q_MET_ALPHA], q[Q_MET_METAL] = q[Q_ROUGHNESS], q[Q_METAL]
    met = np.int64(q[Q_INSTANCE])
    q[Q_OBJECT] = i64_at(w[W_INSTANCES])[met * INSTANCE_COLUMNS + P_OBJECT]
    q[Q_MET] = q[Q_INSTANCE]
