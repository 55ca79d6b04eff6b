"""Following a batch of paths from the camera, gathering light by aiming at lamps and by chance,
weighed against each other.

Next-event estimation and BSDF sampling are combined with the power heuristic (Veach and Guibas
1995), lobe by lobe: a lobe is sampled for itself, and each light component is that lobe's own
share.  A surface that lets light straight through (alpha, or thin clear glass) does not end a
segment: the same path and the same shadow ray go on behind it.

A batch goes stage by stage: all rays to their next events (`advance`), what may happen there
(`_stand_at_event`), light from lamps (`aim`), the way on (`scatter`), whether that is worth a ray
(`look_ahead`).

At the first event any component can get several rays: instead of choosing one lobe by chance, each
is sampled its own number of times.

All state stands in the batch's scratch (`slots.Q_`): `w` is the world, `s` the settings, `b` the
batch, `p` a group of it, `q` a path, `c` the counters.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.render import bsdf
from mill_lane.core.render.aiming import aim
from mill_lane.core.render.events import advance, look_ahead, record
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.lanes import alike, bits, most, where
from mill_lane.core.render.path import (
    DIM_CHOICE,
    DIM_DIRECTION,
    DIM_END,
    component_of,
    count_touches,
    draw,
    drawn,
    drawn_lanes,
)
from mill_lane.core.render.sampler import mix
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
from mill_lane.core.render.vec import dot, vector_at
from mill_lane.core.render.views import see

F = np.float32


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
        look_ahead(w, s, b, c)
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
                    _scatter_all(w, s, p, c, alike(rays, F(lobe)), rays, aimed)
            if not some:
                break
            look_ahead(w, s, b, c)
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
            record(w, s, own(p, k))
    if np.int64(s[S_VIEW]) != VIEW_LIGHT:
        for g in range(GROUPS):
            see(w, s, group(w, b, g), c)
    elif s[S_SPLIT] > 0:
        branch(w, s, b, c)
    else:
        follow(w, s, b, c)


@inner
def _leave_camera(s: Any, q: Any) -> None:
    q[Q_TR], q[Q_TG], q[Q_TB], q[Q_DENSITY] = 1.0, 1.0, 1.0, -1.0
    q[Q_DIM], q[Q_LAST_KIND], q[Q_SPREAD] = 1, R_CAMERA, s[S_SPREAD]
    q[Q_UNSEEN] = HIDDEN | NO_CAMERA
