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
from mill_lane.core.render.lanes import bits, most, where
from mill_lane.core.render.light_bounds import meets_what_shines
from mill_lane.core.render.microfacet import frame
from mill_lane.core.render.path import (
    DEAD,
    DIM_CHOICE,
    DIM_DIRECTION,
    DIM_END,
    DIM_FOG,
    EVENT,
    PARTICLE,
    STRAIGHT,
    SURFACE,
    add,
    component_of,
    count_ray,
    count_touches,
    draw,
    drawn,
    drawn_lanes,
    start_beside,
    straight_on,
)
from mill_lane.core.render.pointers import f64_at, i64_at
from mill_lane.core.render.sampler import mix, pair
from mill_lane.core.render.scatter import scatter, scatter_particle, within_limits
from mill_lane.core.render.side_by_side import (
    bit,
    following,
    group,
    mask_of,
    masks,
    own,
    put,
    take,
)
from mill_lane.core.render.slots import *
from mill_lane.core.render.traverse import ALL, blocked, closest
from mill_lane.core.render.vec import dot, vector_at

PI, FAR = math.pi, lights.FAR
F = np.float32
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
    straight_on(w, s, p, m[M_HITS])
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
        add_glow(w, s, q, factors, material, component, depth)
    sr, sg, sb = q[Q_STRAIGHT_R], q[Q_STRAIGHT_G], q[Q_STRAIGHT_B]
    if profile:
        count_touches(q, c, np.int64(q[Q_LAST_KIND]), depth, component)
    straight = min(max(0.2126 * sr + 0.7152 * sg + 0.0722 * sb, 0.0), 1.0)
    if straight > 0:
        seed, index = np.uint32(q[Q_SEED]), np.int64(q[Q_INDEX])
        u, _ = pair(seed, index, np.int64(q[Q_EVENT]) + DIM_CHOICE)
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
        _record(w, s, q)
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


@inner
def _chances(p: Any, surfaces: int) -> Any:
    """How likely each lobe of some paths' surfaces is, to Q_RAYS: (those that scatter at all, those
    that see a lamp that is aimed at).
    """
    m = bsdf.material_at(p)
    vz = F(0) - dot(vector_at(p, Q_DX), vector_at(p, Q_NX))
    kd, kg, kc, kt = bsdf.chances(p, m, vz)
    mask = mask_of(surfaces)
    put(p, Q_RAYS, kd, mask)
    put(p, Q_RAYS + SIDE, kg, mask)
    put(p, Q_RAYS + 2 * SIDE, kc, mask)
    put(p, Q_RAYS + 3 * SIDE, kt, mask)
    scatters = mask & (kd + kg + kc + kt > F(0))
    return bits(scatters), bits(scatters & ~bsdf.only_mirrors(m, kd, kc))


@inner
def _ends_early(s: Any, q: Any) -> bool:
    """Russian roulette: dim paths end by chance, those that go on count for the others."""
    most = max(q[Q_TR], max(q[Q_TG], q[Q_TB])) / s[S_EARLY_END]
    if most >= 1:
        return False
    u, _ = drawn(q, DIM_END)
    if u >= most:
        return True
    q[Q_TR], q[Q_TG], q[Q_TB] = q[Q_TR] / most, q[Q_TG] / most, q[Q_TB] / most
    return False


@inner
def _choose_lobes(p: Any) -> Any:
    """The lobe that each path goes on by, and how likely that was: lanes."""
    kd, kg = take(p, Q_RAYS), take(p, Q_RAYS + SIDE)
    kc, kt = take(p, Q_RAYS + 2 * SIDE), take(p, Q_RAYS + 3 * SIDE)
    _, u = drawn_lanes(p, DIM_CHOICE)
    u = where(most(most(kd, kg), most(kc, kt)) < F(1), u, F(0))
    last = where(kc > F(0), F(2), F(1))
    lobe = where((u < kd + kg + kc) | (kt <= F(0)), last, F(3))
    lobe = where(u < kd, F(0), where(u < kd + kg, F(1), lobe))
    chance = where(lobe > F(2.5), kt, where(lobe > F(1.5), kc, where(lobe > F(0.5), kg, kd)))
    return lobe, chance


@inner
def _count_event(s: Any, q: Any, c: Any) -> None:
    if s[S_PROFILE] > 0:
        count_touches(q, c, np.int64(q[Q_LAST_KIND]), np.int64(q[Q_DEPTH]), component_of(q))


@linked
def follow(w: Any, s: Any, b: Any, c: Any) -> None:
    """Follow paths from their events (M_SURFACES, M_PARTICLES) to their ends."""
    while True:
        some = False
        for g in range(GROUPS):
            p = group(w, b, g)
            m = masks(p)
            if m[M_SURFACES] | m[M_PARTICLES] != 0:
                _stand_at_event(s, p)
                some = some or m[M_SURFACES] | m[M_PARTICLES] != 0
        if not some:
            return
        aim(w, s, b, c, 1)
        for g in range(GROUPS):
            p = group(w, b, g)
            m = masks(p)
            if m[M_SURFACES] | m[M_PARTICLES] != 0:
                lobe, chance = _choose_lobes(p)
                _scatter_all(w, s, p, c, lobe, chance, 1)
        _look_ahead(w, s, b, c)
        advance(w, s, b, c)


@linked
def _stand_at_event(s: Any, p: Any) -> None:
    """Draw what a group's events need, and see how each may go on: M_SEEING are those at surfaces
    that see lamps.
    """
    m = masks(p)
    surfaces, particles = (
        within_limits(s, p, m[M_SURFACES]),
        within_limits(s, p, m[M_PARTICLES]),
    )
    draw(p, surfaces | particles)
    left = surfaces | particles
    while left != 0 and s[S_EARLY_END] > 0:
        k, left = following(left)
        q = own(p, k)
        if q[Q_DEPTH] > 0 and _ends_early(s, q):
            surfaces, particles = surfaces & ~bit(k), particles & ~bit(k)
    surfaces, seeing = _chances(p, surfaces)
    left = particles
    while left != 0:
        k, left = following(left)
        own(p, k)[Q_RAYS] = 1.0
    m[M_SURFACES], m[M_PARTICLES], m[M_SEEING] = surfaces, particles, seeing


@linked
def _scatter_all(w: Any, s: Any, p: Any, c: Any, lobe: Any, rays: Any, aimed: int) -> None:
    """Turn a group's paths at their events, by a lobe (lanes) where that is a surface."""
    m = masks(p)
    a, b = drawn_lanes(p, DIM_DIRECTION)
    m[M_GOING] = scatter(w, p, m[M_SURFACES], lobe, rays, aimed, a, b) | m[M_PARTICLES]
    _turn_particles(w, p, m[M_PARTICLES], aimed)
    _count_events(s, p, c, m[M_SURFACES] | m[M_PARTICLES])


@linked
def _look_ahead(w: Any, s: Any, b: Any, c: Any) -> None:
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


@inner
def _turn_particles(w: Any, p: Any, particles: int, aimed: int) -> None:
    left = particles
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        a, b = drawn(q, DIM_DIRECTION)
        scatter_particle(w, q, q[Q_RAYS], aimed, a, b)


@inner
def _count_events(s: Any, p: Any, c: Any, paths: int) -> None:
    left = paths if s[S_PROFILE] > 0 else np.int64(0)
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        count_touches(q, c, np.int64(q[Q_LAST_KIND]), np.int64(q[Q_DEPTH]), component_of(q))


@linked
def branch(w: Any, s: Any, b: Any, c: Any) -> None:
    """At the first event: every component its own number of rays, each followed to its end."""
    aimed = max(np.int64(s[S_SPLIT_LIGHTS]), 1)
    for g in range(GROUPS):
        _split(s, group(w, b, g))
    aim(w, s, b, c, aimed)
    for g in range(GROUPS):
        p = group(w, b, g)
        m = masks(p)
        m[M_FIRST], m[M_FIRST_FOG] = m[M_SURFACES], m[M_PARTICLES]
        for at in range(SAVED):
            p[Q_SAVED + at] = p[Q_TR + at]
        for at in range(3 * SIDE):
            p[Q_FIRST_X + at] = p[Q_DX + at]
        for at in range(4 * SIDE):
            p[Q_SPLIT + at] = p[Q_RAYS + at]
    for lobe in range(4):
        j = np.int64(0)
        while True:
            some = False
            for g in range(GROUPS):
                p = group(w, b, g)
                m = masks(p)
                m[M_GOING] = 0
                if _begin_again(p, lobe, j):
                    some = True
                    rays = take(p, Q_SPLIT + SIDE * lobe)
                    _scatter_all(w, s, p, c, rays * F(0) + F(lobe), rays, aimed)
            if not some:
                break
            _look_ahead(w, s, b, c)
            advance(w, s, b, c)
            follow(w, s, b, c)
            j += 1


@linked
def _split(s: Any, p: Any) -> None:
    """How many rays each component of a group's first events gets, to Q_RAYS."""
    m = masks(p)
    surfaces, particles = (
        within_limits(s, p, m[M_SURFACES]),
        within_limits(s, p, m[M_PARTICLES]),
    )
    draw(p, surfaces | particles)
    surfaces, seeing = _chances(p, surfaces)
    left = surfaces | particles
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        at_surface = surfaces & bit(k) != 0
        for lobe in range(4):
            at = Q_RAYS + SIDE * lobe
            n = S_SPLIT_DIFFUSE if lobe == 0 else S_SPLIT_SPECULAR
            n = S_SPLIT_TRANSMISSION if lobe == 3 else n
            q[at] = s[n] if at_surface and q[at] > 0 else 0.0
        if not at_surface:
            q[Q_RAYS] = s[S_SPLIT_VOLUME]
    m[M_SURFACES], m[M_PARTICLES], m[M_SEEING] = surfaces, particles, seeing


@linked
def _begin_again(p: Any, lobe: int, j: int) -> bool:
    """Put those of a group's paths that have a j-th ray of a lobe back to their first event."""
    m = masks(p)
    some, left = np.int64(0), m[M_FIRST] | m[M_FIRST_FOG]
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        n = np.int64(q[Q_SPLIT + SIDE * lobe])
        if j >= n:
            continue
        some |= bit(k)
        for at in range(0, SAVED, SIDE):
            q[Q_TR + at] = q[Q_SAVED + at]
        q[Q_DX], q[Q_DY], q[Q_DZ] = q[Q_FIRST_X], q[Q_FIRST_Y], q[Q_FIRST_Z]
        q[Q_RAYS] = n
        # Rays of one lobe are points of one sequence; lobes differ by their seed.
        q[Q_SEED] = mix(np.uint32(np.uint32(q[Q_SEED]) + np.uint32(lobe)))
        q[Q_INDEX] = np.int64(q[Q_INDEX]) * n + j
    draw(p, some)
    m[M_SURFACES], m[M_PARTICLES] = some & m[M_FIRST], some & m[M_FIRST_FOG]
    return some != 0


@linked
def _record(w: Any, s: Any, q: Any) -> None:
    """What the first surface that scatters is: for the layers of the film."""
    if q[Q_RECORDED] > 0:
        return
    q[Q_RECORDED] = 1.0
    q[Q_ALBEDO], q[Q_ALBEDO_G], q[Q_ALBEDO_B] = q[Q_BR], q[Q_BG], q[Q_BB]
    q[Q_NORMAL], q[Q_NORMAL_Y], q[Q_NORMAL_Z] = q[Q_NX], q[Q_NY], q[Q_NZ]
    q[Q_DISTANCE], q[Q_PASSED] = q[Q_TRAVELLED], q[Q_LAYERS]
    q[Q_POSITION], q[Q_POSITION_Y], q[Q_POSITION_Z] = q[Q_PX], q[Q_PY], q[Q_PZ]
    met = np.int64(q[Q_INSTANCE])
    q[Q_OBJECT] = i64_at(w[W_INSTANCES])[met * INSTANCE_COLUMNS + P_OBJECT]
    q[Q_MET] = q[Q_INSTANCE]


@linked
def trace(w: Any, s: Any, b: Any, c: Any) -> None:
    """Follow the camera rays of a batch (M_GOING; Q_OX, Q_DX, Q_SEED, Q_INDEX, Q_TIME):

    their light to Q_OUT, what they met to Q_FEATURES.
    """
    for g in range(GROUPS):
        p = group(w, b, g)
        left = masks(p)[M_GOING]
        while left != 0:
            k, left = following(left)
            _leave_camera(s, own(p, k))
    advance(w, s, b, c)
    for g in range(GROUPS):
        p = group(w, b, g)
        left = masks(p)[M_SURFACES]
        while left != 0:
            k, left = following(left)
            _record(w, s, own(p, k))
    if np.int64(s[S_VIEW]) != VIEW_LIGHT:
        for g in range(GROUPS):
            _views(w, s, group(w, b, g), c)
    elif s[S_SPLIT] > 0:
        branch(w, s, b, c)
    else:
        follow(w, s, b, c)


@inner
def _leave_camera(s: Any, q: Any) -> None:
    q[Q_TR], q[Q_TG], q[Q_TB], q[Q_DENSITY] = 1.0, 1.0, 1.0, -1.0
    q[Q_DIM], q[Q_LAST_KIND], q[Q_SPREAD] = 1, R_CAMERA, s[S_SPREAD]
    q[Q_UNSEEN] = HIDDEN | NO_CAMERA


@linked
def _views(w: Any, s: Any, p: Any, c: Any) -> None:
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
