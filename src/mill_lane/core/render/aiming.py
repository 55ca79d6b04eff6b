"""Next-event estimation: a path's event looks at lamps, and gathers what arrives of them.

What is found by aiming and what is found by chance are weighed against each other with the power
heuristic (Veach and Guibas 1995), lobe by lobe.  A surface that lets light straight through does
not end a shadow ray: it goes on behind.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render import bsdf, lights, materials, media, microfacet, surface
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.path import (
    CAUSTIC_ALPHA,
    DIM_LAMP,
    DIM_POINT,
    PARTICLE,
    SURFACE,
    add,
    count_ray,
    numbers_of_event,
    start_beside,
    straight_on,
)
from mill_lane.core.render.pointers import f64_at
from mill_lane.core.render.sampler import drawn, mix, pair
from mill_lane.core.render.scatter import unseen_by
from mill_lane.core.render.slots import *
from mill_lane.core.render.traverse import ONLY_SEE_THROUGH, OPAQUE_SHADOWS, blocked, closest

FAR = lights.FAR


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
            q[Q_OX],
            q[Q_OY],
            q[Q_OZ],
            q[Q_DX],
            q[Q_DY],
            q[Q_DZ],
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
            for k in range(Q_ASIDE_COUNT):
                q[Q_ASIDE + k] = q[Q_EVENT + k]
        layers += 1.0
        length = q[Q_T]
        surface.place(w, q, 1e-3)
        materials.read_cover(w, q)
        r, g, b = straight_on(w, s, q)
        q[Q_VR], q[Q_VG], q[Q_VB] = q[Q_VR] * r, q[Q_VG] * g, q[Q_VB] * b
        if layers > s[S_LAYERS] or q[Q_VR] + q[Q_VG] + q[Q_VB] < 1e-6:
            q[Q_VR], q[Q_VG], q[Q_VB] = 0.0, 0.0, 0.0
            break
        start_beside(q, -1.0)
        left -= length * 1.000001 + q[Q_RAY_EPSILON]
        if left <= 0:
            break
    if aside:
        for k in range(Q_ASIDE_COUNT):
            q[Q_EVENT + k] = q[Q_ASIDE + k]


@linked
def _count_shadow(w: Any, q: Any, c: Any, depth: int, component: int, lamp: int) -> None:
    count_ray(q, c, R_SHADOW, depth, component)
    at = (
        C_INSTANCES
        + w[W_INSTANCE_COUNT] * INSTANCE_WORK
        + w[W_MATERIAL_COUNT] * MATERIAL_WORK
        + lamp * LAMP_WORK
    )
    c[at] += 1
    c[at + 1] += np.int64(q[Q_NODES])
    c[at + 2] += np.int64(q[Q_LEAVES])


@inner
def _balanced(a: float, b: float) -> float:
    """The power heuristic with exponent 2."""
    return a * a / (a * a + b * b) if a > 0 else 0.0


@linked
def aim(
    w: Any,
    s: Any,
    q: Any,
    c: Any,
    event: int,
    kd: float,
    kg: float,
    kc: float,
    kt: float,
    rays: int,
    thin: bool,
) -> None:
    """Light from lamps at the event; kd to kt are the rays of each lobe, `rays` those that are
    aimed.
    """
    if w[W_LAMP_COUNT] == 0 or s[S_AIM] <= 0:
        return
    seed, index, dim = np.uint32(q[Q_SEED]), np.int64(q[Q_INDEX]), np.int64(q[Q_EVENT])
    dx, dy, dz = q[Q_DX], q[Q_DY], q[Q_DZ]
    nx, ny, nz = q[Q_NX], q[Q_NY], q[Q_NZ]
    sx, sy, sz, tx, ty, tz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    vx, vy, vz = 0.0, 0.0, 0.0
    if event == SURFACE:
        (sx, sy, sz), (tx, ty, tz) = microfacet.frame(nx, ny, nz)
        vx, vy, vz = (
            -(dx * sx + dy * sy + dz * sz),
            -(dx * tx + dy * ty + dz * tz),
            -(dx * nx + dy * ny + dz * nz),
        )
    every = s[S_CHOICE] == ALL_LIGHTS
    numbers = numbers_of_event(q)
    turns = w[W_LAMP_COUNT] if every else 1
    for j in range(rays):
        for turn in range(turns):
            own = mix(np.uint32(seed + np.uint32(turn) * np.uint32(0x9E3779B9))) if every else seed
            if rays > 1 or every:
                u, v = pair(own, index * rays + j, dim + DIM_LAMP)
                a, b = pair(own, index * rays + j, dim + DIM_POINT)
            else:
                u, v = drawn(numbers, DIM_LAMP)
                a, b = drawn(numbers, DIM_POINT)
            if every:
                lamp, chance, u = np.int64(turn), lights.lamp_chance(w, s, q, turn), v
            else:
                lamp, chance, u = lights.pick_lamp(w, s, q, u)
            if lamp < 0 or chance <= 0:
                continue
            if not lights.sample_lamp(w, q, lamp, chance, u, a, b):
                continue
            _one_lamp(
                w,
                s,
                q,
                c,
                event,
                lamp,
                rays,
                kd,
                kg,
                kc,
                kt,
                thin,
                dx,
                dy,
                dz,
                nx,
                ny,
                nz,
                sx,
                sy,
                sz,
                tx,
                ty,
                tz,
                vx,
                vy,
                vz,
            )
            q[Q_DX], q[Q_DY], q[Q_DZ] = dx, dy, dz


@linked
def _one_lamp(
    w: Any,
    s: Any,
    q: Any,
    c: Any,
    event: int,
    lamp: int,
    rays: int,
    kd: float,
    kg: float,
    kc: float,
    kt: float,
    thin: bool,
    dx: float,
    dy: float,
    dz: float,
    nx: float,
    ny: float,
    nz: float,
    sx: float,
    sy: float,
    sz: float,
    tx: float,
    ty: float,
    tz: float,
    vx: float,
    vy: float,
    vz: float,
) -> None:
    """The light of the lamp point just picked, through each lobe, where nothing stands between."""
    lx, ly, lz = q[Q_LX], q[Q_LY], q[Q_LZ]
    delta = q[Q_LDELTA] > 0
    far = q[Q_LDIST] * (1.0 - 4e-6)
    p = rays * q[Q_LCHANCE]
    depth = np.int64(q[Q_DEPTH])
    first = q[Q_COUNT_DIFFUSE] + q[Q_COUNT_GLOSSY] + q[Q_COUNT_THROUGH] + q[Q_COUNT_VOLUME] == 0
    kind = np.int64(q[Q_KIND])
    # What is found by chance is not seen by some lobes: nor is it then by aiming.
    unseen = np.int64(lights.lamp_row(w, lamp)[L_UNSEEN])
    if event == PARTICLE:
        if unseen & NO_INDIRECT:
            return
        g = f64_at(w[W_MEDIA])[MEDIUM_COLUMNS * np.int64(q[Q_MEDIUM]) + D_G]
        f = media.phase(g, lx * dx + ly * dy + lz * dz)
        k = f / p * (1.0 if delta else _balanced(p, kd * f))
        component = 4 if first else kind + 4
        q[Q_OX], q[Q_OY], q[Q_OZ], q[Q_FAR] = q[Q_PX], q[Q_PY], q[Q_PZ], far
        q[Q_DX], q[Q_DY], q[Q_DZ] = lx, ly, lz
        _visible(w, s, q, c, depth, component, lamp)
        add(
            w,
            s,
            q,
            q[Q_TR] * q[Q_VR] * q[Q_LR] * k,
            q[Q_TG] * q[Q_VG] * q[Q_LG] * k,
            q[Q_TB] * q[Q_VB] * q[Q_LB] * k,
            component,
            lamp,
            depth + 1,
        )
        return
    above = lx * q[Q_GX] + ly * q[Q_GY] + lz * q[Q_GZ]
    x, y, z = lx * sx + ly * sy + lz * sz, lx * tx + ly * ty + lz * tz, lx * nx + ly * ny + lz * nz
    if above * z <= 0:
        return  # the bent normal and the flat one disagree about the side
    bsdf.evaluate(q, vx, vy, vz, x, y, z, thin, -1)
    weight = 0.0
    for lobe in range(4):
        at = Q_LOBES + 4 * lobe
        if q[at] + q[at + 1] + q[at + 2] <= 0:
            continue
        k_lobe = kd if lobe == 0 else (kg if lobe == 1 else (kc if lobe == 2 else kt))
        k = (1.0 if delta else _balanced(p, k_lobe * q[at + 3])) / p
        if unseen & unseen_by(lobe):
            k = 0.0
        if lobe > 0 and s[S_CAUSTICS] <= 0 and q[Q_SOFT] > 0:
            alpha = q[Q_COAT_ALPHA] if lobe == 2 else q[Q_ROUGHNESS]
            if alpha < CAUSTIC_ALPHA:
                k = 0.0
        q[at], q[at + 1], q[at + 2] = q[at] * k, q[at + 1] * k, q[at + 2] * k
        weight += q[at] + q[at + 1] + q[at + 2]
    if weight <= 0:
        return
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
        q[Q_DX], q[Q_DY], q[Q_DZ], q[Q_FAR] = x / reach, y / reach, z / reach, reach * (1.0 - 4e-6)
    brightest = 1 if q[Q_LOBES] + q[Q_LOBES + 1] >= q[Q_LOBES + 4] + q[Q_LOBES + 5] else 2
    _visible(w, s, q, c, depth, brightest if first else kind + 4, lamp)
    if q[Q_VR] + q[Q_VG] + q[Q_VB] <= 0:
        return
    if s[S_PROFILE] > 0:
        c[
            C_INSTANCES
            + w[W_INSTANCE_COUNT] * INSTANCE_WORK
            + w[W_MATERIAL_COUNT] * MATERIAL_WORK
            + lamp * LAMP_WORK
            + 3
        ] += 1
    r, g, b = q[Q_TR] * q[Q_VR] * q[Q_LR], q[Q_TG] * q[Q_VG] * q[Q_LG], q[Q_TB] * q[Q_VB] * q[Q_LB]
    for lobe in range(4):
        at = Q_LOBES + 4 * lobe
        if q[at] + q[at + 1] + q[at + 2] > 0:
            own = DIFFUSE if lobe == 0 else (THROUGH if lobe == 3 else GLOSSY)
            add(
                w,
                s,
                q,
                r * q[at],
                g * q[at + 1],
                b * q[at + 2],
                own if first else kind + 4,
                lamp,
                depth + 1,
            )
