"""Rendering a run of tiles:

the compiled entry that a session calls again and again, from each of its threads.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render.integrator import trace
from mill_lane.core.render.jit import inner, lean, linked
from mill_lane.core.render.path import component_of, count_touches
from mill_lane.core.render.pointers import f32_at, f64_at, i64_at, u8_at, u32_at
from mill_lane.core.render.sampler import pair, pixel_seed
from mill_lane.core.render.slots import *

DIM_PIXEL, DIM_LENS, DIM_TIME = 0, 60001, 60002  # pairs of dimensions; events lie between
COUNT = 9


@inner
def _track(s: Any, q: Any, i: int) -> float:
    """A number of the camera at the path's time."""
    t = q[Q_TIME] * (CAMERA_KEYS - 1)
    k = min(np.int64(t), CAMERA_KEYS - 2)
    f = t - k
    at = S_CAMERA_TRACK + 12 * k + i
    return s[at] + f * (s[at + 12] - s[at])


@linked
def camera_ray(s: Any, q: Any, x: int, y: int) -> None:
    """The ray of the path's sample through pixel (x, y) of the whole picture.

    A thin lens of radius S_LENS turns rays so that they meet again in the plane at S_FOCUS; 0 is a
    pinhole.
    """
    seed, index = np.uint32(q[Q_SEED]), np.int64(q[Q_INDEX])
    jx, jy = pair(seed, index, DIM_PIXEL)
    q[Q_TIME] = 0.0
    if s[S_SHUTTER] > 0:
        q[Q_TIME], _ = pair(seed, index, DIM_TIME)
    a, b = 2 * (x + jx) / s[S_WIDTH] - 1, 1 - 2 * (y + jy) / s[S_HEIGHT]
    px, py, pz = _track(s, q, 0), _track(s, q, 1), _track(s, q, 2)
    sx = a * _track(s, q, 6) + b * _track(s, q, 9)
    sy = a * _track(s, q, 7) + b * _track(s, q, 10)
    sz = a * _track(s, q, 8) + b * _track(s, q, 11)
    dx, dy, dz = _track(s, q, 3), _track(s, q, 4), _track(s, q, 5)
    if s[S_FLAT] > 0:  # orthographic: the ray starts aside instead of turning
        px, py, pz = px + sx, py + sy, pz + sz
    else:
        dx, dy, dz = dx + sx, dy + sy, dz + sz
    if s[S_LENS] > 0:
        u, v = pair(seed, index, DIM_LENS)
        r, phi = s[S_LENS] * math.sqrt(u), 2 * math.pi * v
        rx, ry, rz = _track(s, q, 6), _track(s, q, 7), _track(s, q, 8)
        ux, uy, uz = _track(s, q, 9), _track(s, q, 10), _track(s, q, 11)
        across, up = math.sqrt(rx * rx + ry * ry + rz * rz), math.sqrt(ux * ux + uy * uy + uz * uz)
        i, j = r * math.cos(phi) / across, r * math.sin(phi) / up
        ox, oy, oz = i * rx + j * ux, i * ry + j * uy, i * rz + j * uz
        f = s[S_FOCUS]
        px, py, pz = px + ox, py + oy, pz + oz
        dx, dy, dz = f * dx - ox, f * dy - oy, f * dz - oz
    n = math.sqrt(dx * dx + dy * dy + dz * dz)
    q[Q_OX], q[Q_OY], q[Q_OZ] = px, py, pz
    q[Q_DX], q[Q_DY], q[Q_DZ] = dx / n, dy / n, dz / n


@linked
def _project(s: Any, key: int, x: float, y: float, z: float) -> Any:
    """Where a point is in the picture of a camera of the track, in pixels."""
    at = S_CAMERA_TRACK + 12 * key
    x, y, z = x - s[at], y - s[at + 1], z - s[at + 2]
    ahead = x * s[at + 3] + y * s[at + 4] + z * s[at + 5]
    if s[S_FLAT] > 0:
        ahead = 1.0
    if ahead <= 1e-9:
        return 0.0, 0.0, False
    rx, ry, rz, ux, uy, uz = s[at + 6], s[at + 7], s[at + 8], s[at + 9], s[at + 10], s[at + 11]
    a = (x * rx + y * ry + z * rz) / (rx * rx + ry * ry + rz * rz) / ahead
    b = (x * ux + y * uy + z * uz) / (ux * ux + uy * uy + uz * uz) / ahead
    return (a + 1) / 2 * s[S_WIDTH], (1 - b) / 2 * s[S_HEIGHT], True


@linked
def _motion(w: Any, s: Any, q: Any) -> Any:
    """How far the first surface moves in the picture until the next frame, in pixels right and
    down.
    """
    if q[Q_RECORDED] <= 0:
        return 0.0, 0.0
    x, y, z = q[Q_POSITION], q[Q_POSITION + 1], q[Q_POSITION + 2]
    instance = np.int64(q[Q_MET])
    following = i64_at(w[W_INSTANCES])[instance * INSTANCE_COLUMNS + P_NEXT]
    nx, ny, nz = x, y, z
    if following >= 0:
        m, i = f64_at(w[W_TO_OBJECT]), instance * 12
        ax = m[i] * x + m[i + 1] * y + m[i + 2] * z + m[i + 3]
        ay = m[i + 4] * x + m[i + 5] * y + m[i + 6] * z + m[i + 7]
        az = m[i + 8] * x + m[i + 9] * y + m[i + 10] * z + m[i + 11]
        m, i = f64_at(w[W_NEXT]), following * 12
        nx = m[i] * ax + m[i + 1] * ay + m[i + 2] * az + m[i + 3]
        ny = m[i + 4] * ax + m[i + 5] * ay + m[i + 6] * az + m[i + 7]
        nz = m[i + 8] * ax + m[i + 9] * ay + m[i + 10] * az + m[i + 11]
    px, py, here = _project(s, 0, x, y, z)
    qx, qy, there = _project(s, CAMERA_KEYS, nx, ny, nz)
    return (qx - px, qy - py) if here and there else (0.0, 0.0)


@linked
def _sample(w: Any, s: Any, q: Any, c: Any, x: int, y: int, index: int) -> float:
    """One sample of a pixel of the whole picture; returns its luminance.

    What is not a number counts as nothing.
    """
    block = max(np.int64(s[S_BLOCK]), 1)
    q[Q_SEED] = pixel_seed(np.int64(s[S_SEED]), x // block, y // block)
    q[Q_INDEX] = index
    for k in range(Q_OUT, Q_FEATURES + FEATURES):
        q[k] = 0.0
    for k in range(4):
        q[Q_WORK + k] = 0.0
    lamps = w[W_LAMP_COUNT]
    if s[S_PROFILE] > 0 or s[S_LIGHT_COUNT] > 0:
        for k in range(4 * lamps + DEPTHS):
            q[Q_PER_LAMP + k] = 0.0
    q[Q_TOUCHES], q[Q_TOUCHES + 1] = 0.0, 0.0
    camera_ray(s, q, x, y)
    trace(w, s, q, c)
    if s[S_PROFILE] > 0:
        count_touches(q, c, np.int64(q[Q_LAST_KIND]), np.int64(q[Q_DEPTH]), component_of(q))
    if s[S_ONLY] > 0:
        for k in range(COUNT):
            if k + 1 != s[S_ONLY]:
                q[Q_OUT + 3 * k], q[Q_OUT + 3 * k + 1], q[Q_OUT + 3 * k + 2] = 0.0, 0.0, 0.0
    r, g, b = 0.0, 0.0, 0.0
    for k in range(COUNT):
        r, g, b = r + q[Q_OUT + 3 * k], g + q[Q_OUT + 3 * k + 1], b + q[Q_OUT + 3 * k + 2]
    if not (r >= 0 and g >= 0 and b >= 0 and r + g + b < 1e30):
        for k in range(3 * COUNT):
            q[Q_OUT + k] = 0.0
        return 0.0
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


@linked
def _pairs(w: Any, q: Any, luma: float, second: bool) -> None:
    """Differences between a sample and the one before it, for what the grain would be without a
    lamp or a bounce.
    """
    lamps = w[W_LAMP_COUNT]
    now, depths = Q_PER_LAMP, Q_PER_LAMP + 4 * lamps
    before = depths + DEPTHS
    if not second:
        q[Q_SAMPLE] = luma
        for k in range(lamps):
            q[before + k] = q[now + k]
        for k in range(DEPTHS):
            q[before + lamps + k] = q[depths + k]
        return
    sums = before + lamps + DEPTHS
    d = luma - q[Q_SAMPLE]
    q[sums] += 1.0
    q[sums + 1] += luma + q[Q_SAMPLE]
    q[sums + 2] += d * d
    for k in range(lamps + DEPTHS):
        x = q[now + k] if k < lamps else q[depths + k - lamps]
        e = x - q[before + k]
        at = sums + 3 + 3 * k
        q[at] += x + q[before + k]
        q[at + 1] += d * e
        q[at + 2] += e * e


@linked
def _keep(w: Any, s: Any, q: Any, film: Any, p: int, luma: float, index: int) -> None:
    """Add a sample to pixel p of the film."""
    r, g, b = 0.0, 0.0, 0.0
    for k in range(COUNT):
        r, g, b = r + q[Q_OUT + 3 * k], g + q[Q_OUT + 3 * k + 1], b + q[Q_OUT + 3 * k + 2]
    light, lumas = f32_at(film[F_LIGHT]), f32_at(film[F_LUMA])
    light[3 * p] += np.float32(r)
    light[3 * p + 1] += np.float32(g)
    light[3 * p + 2] += np.float32(b)
    lumas[2 * p] += np.float32(luma)
    lumas[2 * p + 1] += np.float32(luma * luma)
    u32_at(film[F_SAMPLES])[p] += np.uint32(1)
    if film[F_ALBEDO] != 0:
        _three(film[F_ALBEDO], p, q[Q_ALBEDO], q[Q_ALBEDO + 1], q[Q_ALBEDO + 2])
    if film[F_NORMAL] != 0:
        _three(film[F_NORMAL], p, q[Q_NORMAL], q[Q_NORMAL + 1], q[Q_NORMAL + 2])
    if film[F_DEPTH] != 0:
        f32_at(film[F_DEPTH])[p] += np.float32(q[Q_DISTANCE])
    if film[F_LIGHT_SQUARES] != 0:
        _squares(q, film, p, r, g, b)
    if film[F_POSITION] != 0:
        _three(film[F_POSITION], p, q[Q_POSITION], q[Q_POSITION + 1], q[Q_POSITION + 2])
    if film[F_MOTION] != 0:
        mx, my = _motion(w, s, q)
        motion = f32_at(film[F_MOTION])
        motion[2 * p] += np.float32(mx)
        motion[2 * p + 1] += np.float32(my)
    if film[F_OBJECT] != 0 and index == 0 and q[Q_RECORDED] > 0:
        # Numbers do not average: the first sample's object stands, counted from 1, 0 for none.
        f32_at(film[F_OBJECT])[p] = np.float32(q[Q_OBJECT] + 1.0)
    if film[F_WORK] != 0:
        work = q[Q_WORK] + q[Q_WORK + 1] + 2.0 * q[Q_WORK + 2] + 8.0 * q[Q_WORK + 3]
        f32_at(film[F_WORK])[p] += np.float32(work)
    if film[F_HALF] != 0 and index % 2 == 0:
        _three(film[F_HALF], p, r, g, b)
    if film[F_COMPONENTS] != 0:
        parts = f32_at(film[F_COMPONENTS])
        for k in range(3 * COUNT):
            parts[3 * COUNT * p + k] += np.float32(q[Q_OUT + k])
    if film[F_LIGHTS] != 0:
        lamps = w[W_LAMP_COUNT]
        by_lamp = f32_at(film[F_LIGHTS])
        for k in range(3 * lamps):
            by_lamp[3 * lamps * p + k] += np.float32(q[Q_PER_LAMP + lamps + k])


@linked
def _squares(q: Any, film: Any, p: int, r: float, g: float, b: float) -> None:
    """Add the squares of a sample's light and guides, from which their variance is known."""
    _three(film[F_LIGHT_SQUARES], p, r * r, g * g, b * b)
    ar, ag, ab = q[Q_ALBEDO], q[Q_ALBEDO + 1], q[Q_ALBEDO + 2]
    _three(film[F_ALBEDO_SQUARES], p, ar * ar, ag * ag, ab * ab)
    nx, ny, nz = q[Q_NORMAL], q[Q_NORMAL + 1], q[Q_NORMAL + 2]
    _three(film[F_NORMAL_SQUARES], p, nx * nx, ny * ny, nz * nz)
    f32_at(film[F_DEPTH_SQUARES])[p] += np.float32(q[Q_DISTANCE] * q[Q_DISTANCE])


@inner
def _three(address: int, p: int, r: float, g: float, b: float) -> None:
    plane = f32_at(address)
    plane[3 * p] += np.float32(r)
    plane[3 * p + 1] += np.float32(g)
    plane[3 * p + 2] += np.float32(b)


@lean
def render_tiles(
    world: int,
    settings: int,
    film_table: int,
    path: int,
    counters: int,
    boxes: int,
    tiles: int,
    samples: int,
    most: int,
) -> None:
    """Add up to `samples` samples to every active pixel of some tiles, none beyond `most`.

    All but the last three are addresses: of the world's table, the settings, the film's table, a
    thread's path and counters, and of the tiles, int64 (T, 4): x0, y0, x1, y1 within the film.
    """
    w, s, film, q, c = (
        i64_at(world),
        f64_at(settings),
        i64_at(film_table),
        f64_at(path),
        i64_at(counters),
    )
    box, width = i64_at(boxes), np.int64(s[S_REGION_W])
    x0, y0 = np.int64(s[S_X0]), np.int64(s[S_Y0])
    active, have = u8_at(film[F_ACTIVE]), u32_at(film[F_SAMPLES])
    for k in range(tiles):
        for y in range(box[4 * k + 1], box[4 * k + 3]):
            for x in range(box[4 * k], box[4 * k + 2]):
                p = y * width + x
                if active[p] == 0:
                    continue
                first = np.int64(have[p])
                for i in range(min(samples, most - first)):
                    luma = _sample(w, s, q, c, x0 + x, y0 + y, first + i)
                    _keep(w, s, q, film, p, luma, first + i)
                    if s[S_PROFILE] > 0:
                        _pairs(w, q, luma, i % 2 == 1)
