"""Aiming at lights: picking one by power, a point on it, and the density of having done so."""

from __future__ import annotations

import math
from typing import Any

from mill_lane.core.render import world as w
from mill_lane.core.render.jit import lean

PI = math.pi
FAR = 1e7
POINT, SPOT, SUN, TRIANGLE, SKY = w.POINT, w.SPOT, w.SUN, w.TRIANGLE, w.SKY


@lean
def sky_radiance(sky: Any, y: float) -> Any:
    """The gradient of the environment for a direction of height y in -1 to 1."""
    k = 3
    if y < 0:
        # A soft edge below the horizon, so that the ground does not start with a line.
        t = min(1.0, -y * 8.0)
        k = 6
    else:
        t = math.sqrt(y)
        k = 0
    return (
        sky[3] + (sky[k] - sky[3]) * t,
        sky[4] + (sky[k + 1] - sky[4]) * t,
        sky[5] + (sky[k + 2] - sky[5]) * t,
    )


@lean
def _search(running: Any, n: int, skip: int, u: float) -> int:
    """The first of n indices whose running sum is above u, the first `skip` entries left out."""
    low, high = 0, n - 1
    while low < high:
        middle = (low + high) // 2
        if running[middle + skip] > u:
            high = middle
        else:
            low = middle + 1
    return low


@lean
def sky_density(lights: Any, x: float, y: float, z: float) -> float:
    """The density over solid angle with which `sample_light` picks this direction once it has picked the sky."""
    h, width = lights.sky_columns.shape[0], lights.sky_columns.shape[1] - 1
    theta = math.acos(min(max(y, -1.0), 1.0))
    phi = math.atan2(z, x)
    if phi < 0:
        phi += 2 * PI
    j, i = min(int(theta / PI * h), h - 1), min(int(phi / (2 * PI) * width), width - 1)
    p = (lights.sky_rows[j + 1] - lights.sky_rows[j]) * (lights.sky_columns[j, i + 1] - lights.sky_columns[j, i])
    # Within a cell the cosine of theta is uniform, so that the density is constant over its solid angle.
    cell = (math.cos(PI * j / h) - math.cos(PI * (j + 1) / h)) * 2 * PI / width
    return p / cell


@lean
def _sample_sky(lights: Any, a: float, b: float) -> Any:
    h, width = lights.sky_columns.shape[0], lights.sky_columns.shape[1] - 1
    j = _search(lights.sky_rows, h, 1, a)
    fa = (a - lights.sky_rows[j]) / max(lights.sky_rows[j + 1] - lights.sky_rows[j], 1e-300)
    i = _search(lights.sky_columns[j], width, 1, b)
    fb = (b - lights.sky_columns[j, i]) / max(lights.sky_columns[j, i + 1] - lights.sky_columns[j, i], 1e-300)
    top, bottom = math.cos(PI * j / h), math.cos(PI * (j + 1) / h)
    y = top + (bottom - top) * min(max(fa, 0.0), 1.0)
    phi = 2 * PI * (i + min(max(fb, 0.0), 1.0)) / width
    r = math.sqrt(max(0.0, 1 - y * y))
    return r * math.cos(phi), y, r * math.sin(phi)


@lean
def sample_light(lights: Any, px: float, py: float, pz: float, pick: float, a: float, b: float) -> Any:
    """A light seen from p: (direction 3, distance, radiance 3, density, delta, row, u, v).

    The density is over solid angle and includes the pick; for lights without size the radiance is divided by the
    squared distance instead, the density is the pick's alone and `delta` is true.  u and v weigh the second and third
    corner of a triangle.  A density of 0 means that nothing arrives.
    """
    n = lights.rows.shape[0]
    i = _search(lights.running, n, 0, pick)
    row, chance = lights.rows[i], lights.chance[i]
    kind = int(row[0])
    r, g, b_ = row[10], row[11], row[12]
    if kind == SKY:
        x, y, z = _sample_sky(lights, a, b)
        r, g, b_ = sky_radiance(lights.sky, y)
        return x, y, z, FAR, r, g, b_, chance * sky_density(lights, x, y, z), False, i, 0.0, 0.0
    if kind == SUN:
        return -row[4], -row[5], -row[6], FAR, r, g, b_, chance, True, i, 0.0, 0.0
    u, v = 0.0, 0.0
    x, y, z = row[1] - px, row[2] - py, row[3] - pz
    if kind == TRIANGLE:
        s = math.sqrt(a)
        u, v = s * (1 - b), s * b
        x, y, z = x + u * row[4] + v * row[7], y + u * row[5] + v * row[8], z + u * row[6] + v * row[9]
    d2 = x * x + y * y + z * z
    d = math.sqrt(d2)
    if d < 1e-9:
        return 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, True, i, u, v
    x, y, z = x / d, y / d, z / d
    if kind == TRIANGLE:
        nx, ny, nz = (
            row[5] * row[9] - row[6] * row[8],
            row[6] * row[7] - row[4] * row[9],
            row[4] * row[8] - row[5] * row[7],
        )
        facing = abs(nx * x + ny * y + nz * z) / math.sqrt(nx * nx + ny * ny + nz * nz)
        return x, y, z, d, r, g, b_, chance * d2 / max(row[13] * facing, 1e-12), False, i, u, v
    fall = 1.0 / d2
    if row[13] < FAR:  # KHR_lights_punctual, "range": a window that reaches zero there
        k = (d / row[13]) ** 4
        fall *= max(min(1.0 - k, 1.0), 0.0)
    if kind == SPOT:
        # KHR_lights_punctual, "inner and outer cone angles".
        c = -(x * row[4] + y * row[5] + z * row[6])
        t = min(max((c - row[15]) / max(row[14] - row[15], 1e-4), 0.0), 1.0)
        fall *= t * t
    return x, y, z, d, r * fall, g * fall, b_ * fall, chance, True, i, u, v
