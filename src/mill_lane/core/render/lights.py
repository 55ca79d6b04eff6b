"""Aiming at lamps: choosing one, a point on it, and the density of having done so.

A lamp is chosen by power alone, by what it may give at the point, or all of them are aimed at.
What a lamp may give is an upper bound of the light that falls on a surface turned towards it; a
lamp whose bound is 0 is never aimed at, and then what is found of it by chance counts in full.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.light_bounds import bound_of, pick_by_bound, weigh_lamps
from mill_lane.core.render.materials import factors_of
from mill_lane.core.render.mesh_lights import half_density, sample_mesh, search
from mill_lane.core.render.microfacet import turn
from mill_lane.core.render.pointers import f32_at, f64_at
from mill_lane.core.render.quick import polar_angle, turned_by
from mill_lane.core.render.slots import *

PI = math.pi
FAR = 1e12


@inner
def lamp_row(w: Any, i: int) -> Any:
    """The row of a lamp."""
    return f64_at(w[W_LAMPS] + 8 * LAMP_COLUMNS * i)


@linked
def sky_radiance(w: Any, x: float, y: float, z: float) -> Any:
    """The radiance that comes from a direction:

    a gradient by height, or a picture (longitude over latitude).
    """
    sky = f64_at(w[W_SKY])
    if sky[9] > 0:
        pixels, width, height = f32_at(w[W_SKY_PIXELS]), w[W_SKY_WIDTH], w[W_SKY_HEIGHT]
        v = polar_angle(y) / PI * height - 0.5
        u = turned_by(z, x) / (2 * PI) * width - 0.5
        iu, iv = np.int64(math.floor(u)), np.int64(math.floor(v))
        fu, fv = u - iu, v - iv
        i0 = iu + width if iu < 0 else (iu - width if iu >= width else iu)
        i1 = i0 + 1 if i0 + 1 < width else 0
        j0, j1 = min(max(iv, 0), height - 1), min(max(iv + 1, 0), height - 1)
        a, b, c, d = (
            3 * (j0 * width + i0),
            3 * (j0 * width + i1),
            3 * (j1 * width + i0),
            3 * (j1 * width + i1),
        )
        p, r, q, t = (1 - fu) * (1 - fv), fu * (1 - fv), (1 - fu) * fv, fu * fv
        return (
            p * pixels[a] + r * pixels[b] + q * pixels[c] + t * pixels[d],
            p * pixels[a + 1] + r * pixels[b + 1] + q * pixels[c + 1] + t * pixels[d + 1],
            p * pixels[a + 2] + r * pixels[b + 2] + q * pixels[c + 2] + t * pixels[d + 2],
        )
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


@linked
def sky_density(w: Any, x: float, y: float, z: float) -> float:
    """The density over solid angle with which the sky is sampled, once it has been picked."""
    height, width = w[W_SKY_HEIGHT], w[W_SKY_WIDTH]
    bands, columns = f64_at(w[W_SKY_BANDS]), f64_at(w[W_SKY_COLUMNS])
    j = min(np.int64(polar_angle(y) / PI * height), height - 1)
    i = np.int64(0)
    if width > 1:
        i = min(np.int64(turned_by(z, x) / (2 * PI) * width), width - 1)
    at = j * (width + 1) + i
    return bands[2 * j + 1] * (columns[at + 1] - columns[at])


@linked
def _sample_sky(w: Any, a: float, b: float) -> Any:
    height, width = w[W_SKY_HEIGHT], w[W_SKY_WIDTH]
    rows = f64_at(w[W_SKY_ROWS])
    j = search(rows, height, 1, a)
    columns = f64_at(w[W_SKY_COLUMNS] + 8 * j * (width + 1))
    fa = (a - rows[j]) / max(rows[j + 1] - rows[j], 1e-300)
    i = search(columns, width, 1, b)
    fb = (b - columns[i]) / max(columns[i + 1] - columns[i], 1e-300)
    bands = f64_at(w[W_SKY_BANDS])
    top, bottom = bands[2 * j], bands[2 * j + 2]
    y = top + (bottom - top) * min(max(fa, 0.0), 1.0)
    across, along = turn((i + min(max(fb, 0.0), 1.0)) / width)
    r = math.sqrt(max(0.0, 1 - y * y))
    return r * across, y, r * along


@linked
def prepare_aim(
    w: Any,
    s: Any,
    q: Any,
    x: float,
    y: float,
    z: float,
    nx: float,
    ny: float,
    nz: float,
    surface: float,
) -> None:
    """Look for lamps from a point; a `surface` has a horizon.

    What each may give is kept for the choice.
    """
    q[Q_AX], q[Q_AY], q[Q_AZ], q[Q_AIM_NX], q[Q_AIM_NY], q[Q_AIM_NZ] = x, y, z, nx, ny, nz
    q[Q_AIM_SURFACE], q[Q_AIM_SUM] = surface, 0.0
    if s[S_CHOICE] == ONE_BY_ESTIMATE:
        q[Q_AIM_SUM] = weigh_lamps(w, s, q)


@linked
def lamp_chance(w: Any, s: Any, q: Any, i: int) -> float:
    """The probability with which lamp i is aimed at from the point of `prepare_aim`."""
    if s[S_CHOICE] == ONE_BY_ESTIMATE:
        return bound_of(w, s, q, i) / q[Q_AIM_SUM] if q[Q_AIM_SUM] > 0 else 0.0
    if s[S_LIGHT_THRESHOLD] > 0 and bound_of(w, s, q, i) <= 0:
        return 0.0
    return 1.0 if s[S_CHOICE] == ALL_LIGHTS else lamp_row(w, i)[L_CHANCE]


@linked
def pick_lamp(w: Any, s: Any, q: Any, u: float) -> Any:
    """One lamp by power or by estimate:

    (number or -1, its probability, u stretched to [0, 1) again).
    """
    if s[S_CHOICE] == ONE_BY_ESTIMATE:
        total = q[Q_AIM_SUM]
        at, bound, into = pick_by_bound(w, q, u * total)
        if at < 0:
            return at, 0.0, u
        return at, bound / total, min(into / bound, 0.9999999)
    running = f64_at(w[W_LAMP_RUNNING])
    i = search(running, w[W_LAMP_COUNT], 0, u)
    before = running[i - 1] if i > 0 else 0.0
    chance = lamp_row(w, i)[L_CHANCE]
    if chance <= 0:
        return np.int64(-1), 0.0, u
    return i, lamp_chance(w, s, q, i), min(max((u - before) / chance, 0.0), 0.9999999)


@linked
def sample_lamp(w: Any, q: Any, i: int, chance: float, pick: float, a: float, b: float) -> bool:
    """A point of lamp i seen from the point aimed from:

    Q_LX and on.  Returns whether anything arrives.

    The density is over solid angle and includes `chance`; for lamps without size the light is
    divided by the squared distance instead, and the density is the chance alone.
    """
    row = lamp_row(w, i)
    kind, scale = np.int64(row[L_KIND]), row[L_SCALE]
    q[Q_LNUMBER], q[Q_LDELTA], q[Q_LCHANCE] = i, 0.0, chance
    q[Q_LR], q[Q_LG], q[Q_LB] = row[L_RED] * scale, row[L_GREEN] * scale, row[L_BLUE] * scale
    if kind == SKY:
        x, y, z = _sample_sky(w, a, b)
        r, g, bl = sky_radiance(w, x, y, z)
        q[Q_LX], q[Q_LY], q[Q_LZ], q[Q_LDIST] = x, y, z, FAR
        q[Q_LR], q[Q_LG], q[Q_LB] = r * scale, g * scale, bl * scale
        q[Q_LCHANCE] = chance * sky_density(w, x, y, z)
        return True
    if kind == SUN:
        x, y, z = -row[L_DX], -row[L_DY], -row[L_DZ]
        q[Q_LDIST] = FAR
        if row[L_OUTER] >= 1:
            q[Q_LX], q[Q_LY], q[Q_LZ], q[Q_LDELTA] = x, y, z, 1.0
            return True
        # A disc: uniform over its cone.
        cosine = 1.0 - a * (1.0 - row[L_OUTER])
        sine = math.sqrt(max(0.0, 1.0 - cosine * cosine))
        across, along = turn(b)
        sign = 1.0 if z >= 0 else -1.0
        k = -1.0 / (sign + z)
        m = x * y * k
        p, r = sine * across, sine * along
        q[Q_LX] = p * (1.0 + sign * x * x * k) + r * m + cosine * x
        q[Q_LY] = p * sign * m + r * (sign + y * y * k) + cosine * y
        q[Q_LZ] = -p * sign * x - r * y + cosine * z
        q[Q_LCHANCE] = chance / (2 * PI * (1.0 - row[L_OUTER]))
        return True
    if kind == MESH:
        return sample_mesh(w, q, row, chance, pick, a, b)
    x, y, z = row[L_X] - q[Q_AX], row[L_Y] - q[Q_AY], row[L_Z] - q[Q_AZ]
    d2 = x * x + y * y + z * z
    d = math.sqrt(d2)
    if d < 1e-9:
        return False
    x, y, z = x / d, y / d, z / d
    fall = 1.0 / d2
    if row[L_RANGE] < FAR:  # KHR_lights_punctual, "range": a window that reaches zero there
        fall *= max(min(1.0 - (d / row[L_RANGE]) ** 4, 1.0), 0.0)
    if kind == SPOT:
        # KHR_lights_punctual, "inner and outer cone angles".
        c = -(x * row[L_DX] + y * row[L_DY] + z * row[L_DZ])
        t = min(max((c - row[L_OUTER]) / max(row[L_INNER] - row[L_OUTER], 1e-4), 0.0), 1.0)
        fall *= t * t
    q[Q_LX], q[Q_LY], q[Q_LZ], q[Q_LDIST], q[Q_LDELTA] = x, y, z, d, 1.0
    q[Q_LR], q[Q_LG], q[Q_LB] = q[Q_LR] * fall, q[Q_LG] * fall, q[Q_LB] * fall
    return fall > 0


@linked
def found_density(w: Any, s: Any, q: Any, lamp: int, distance: float, facing: float) -> float:
    """The density over solid angle with which a glowing mesh found by chance could have been aimed
    at.
    """
    row = lamp_row(w, lamp)
    per_area = 1.0 / max(abs(row[L_AREA]), 1e-300)
    if row[L_PATCHED] > 0:
        per_area = half_density(w, q, row)
    return lamp_chance(w, s, q, lamp) * distance * distance * per_area / max(facing, 1e-9)


@inner
def glows(w: Any, material: int, front: float) -> bool:
    """Whether this side of a surface may give off light."""
    return front > 0 or factors_of(w, material)[M_TWO_SIDED] > 0
