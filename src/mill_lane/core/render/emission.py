"""Light that a path meets by chance: the sky, and surfaces that glow."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render import lights, materials
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.mesh_lights import FINE
from mill_lane.core.render.path import (
    add,
)
from mill_lane.core.render.pointers import i64_at
from mill_lane.core.render.slots import *

PI = math.pi


@inner
def sky_shines(w: Any, q: Any) -> bool:
    """Whether anything comes from where the path's ray would leave the scene: sky, or sun."""
    sky, sun = w[W_SKY_LAMP], w[W_SUN_LAMP]
    if sky >= 0 and lights.lamp_row(w, sky)[L_SCALE] > 0:
        return True
    if sun < 0:
        return False
    row = lights.lamp_row(w, sun)
    along = q[Q_DX] * row[L_DX] + q[Q_DY] * row[L_DY] + q[Q_DZ] * row[L_DZ]
    return -along >= row[L_OUTER]


@linked
def add_sky(w: Any, s: Any, q: Any, component: int, depth: int) -> None:
    """Light from beyond everything: the sky, and the sun's disc."""
    if q[Q_KIND] == NONE and s[S_SKY_VISIBLE] <= 0:
        return
    x, y, z = q[Q_DX], q[Q_DY], q[Q_DZ]
    density = q[Q_DENSITY]
    sky, sun = w[W_SKY_LAMP], w[W_SUN_LAMP]
    if sky >= 0:
        scale = lights.lamp_row(w, sky)[L_SCALE]
        weight = 1.0
        if density >= 0 and s[S_AIM] > 0:
            p = lights.lamp_chance(w, s, q, sky) * lights.sky_density(w, x, y, z)
            weight = density * density / (density * density + p * p)
        r, g, b = lights.sky_radiance(w, x, y, z)
        k = weight * scale
        add(w, s, q, q[Q_TR] * r * k, q[Q_TG] * g * k, q[Q_TB] * b * k, component, sky, depth)
    if sun >= 0:
        row = lights.lamp_row(w, sun)
        if -(x * row[L_DX] + y * row[L_DY] + z * row[L_DZ]) >= row[L_OUTER]:
            weight = row[L_SCALE]
            if density >= 0 and s[S_AIM] > 0:
                p = lights.lamp_chance(w, s, q, sun) / (2 * PI * (1.0 - row[L_OUTER]))
                weight *= density * density / (density * density + p * p)
            add(
                w,
                s,
                q,
                q[Q_TR] * row[L_RED] * weight,
                q[Q_TG] * row[L_GREEN] * weight,
                q[Q_TB] * row[L_BLUE] * weight,
                component,
                sun,
                depth,
            )


@linked
def add_glow(
    w: Any, s: Any, q: Any, factors: Any, material: int, component: int, depth: int
) -> None:
    """Light given off where the ray hit, unless it was already counted by aiming at it."""
    if factors[M_EMIT_R] + factors[M_EMIT_G] + factors[M_EMIT_B] <= 0 or not lights.glows(
        w, material, q[Q_FRONT]
    ):
        return
    lamp = i64_at(w[W_INSTANCES])[np.int64(q[Q_INSTANCE]) * INSTANCE_COLUMNS + P_LAMP]
    if lamp >= 0 and q[Q_DENSITY] >= 0 and lights.lamp_row(w, lamp)[L_PATCHED] > 0:
        # What is weighed against aiming has to be what was aimed at: the picture itself, unblurred.
        level, second = q[Q_LEVEL], q[Q_LEVEL_SECOND]
        q[Q_LEVEL], q[Q_LEVEL_SECOND] = FINE, FINE
        r, g, b = materials.emitted(w, q, material)
        q[Q_LEVEL], q[Q_LEVEL_SECOND] = level, second
    else:
        r, g, b = materials.emitted(w, q, material)
    weight = q[Q_COVER]
    if lamp >= 0:
        weight *= lights.lamp_row(w, lamp)[L_SCALE]
        if q[Q_DENSITY] >= 0 and s[S_AIM] > 0:
            facing = abs(q[Q_GX] * q[Q_DX] + q[Q_GY] * q[Q_DY] + q[Q_GZ] * q[Q_DZ])
            p = lights.found_density(w, s, q, lamp, q[Q_SINCE], facing)
            weight *= q[Q_DENSITY] * q[Q_DENSITY] / (q[Q_DENSITY] * q[Q_DENSITY] + p * p)
    add(
        w,
        s,
        q,
        q[Q_TR] * r * weight,
        q[Q_TG] * g * weight,
        q[Q_TB] * b * weight,
        component,
        lamp,
        depth,
    )
