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
from mill_lane.core.render.sampler import mix, pair, pixel_seed
from mill_lane.core.render.side_by_side import bit, group, masks, own, thread_of
from mill_lane.core.render.slots import *

DIM_PIXEL, DIM_LENS, DIM_TIME = 0, 60001, 60002  # pairs of dimensions; events lie between
COUNT = 9
OTHER_HALF = np.uint32(0x68BC21EB)


@inner
def _at_time(time: float) -> Any:
    """Where in the settings the camera's key before a time of the shutter stands, and how far the
    time is on the way to the next one.
    """
    t = time * (CAMERA_KEYS - 1)
    k = min(np.int64(t), CAMERA_KEYS - 2)
    return S_CAMERA_TRACK + 12 * k, t - k


@inner
def _track(s: Any, key: Any, i: int) -> Any:
    """Three numbers of the camera, from the i-th on."""
    at, f = key[0] + i, key[1]
    return (
        s[at] + f * (s[at + 12] - s[at]),
        s[at + 1] + f * (s[at + 13] - s[at + 1]),
        s[at + 2] + f * (s[at + 14] - s[at + 2]),
    )


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
    key = _at_time(q[Q_TIME])
    (px, py, pz), (dx, dy, dz) = _track(s, key, 0), _track(s, key, 3)
    (rx, ry, rz), (ux, uy, uz) = _track(s, key, 6), _track(s, key, 9)
    sx, sy, sz = a * rx + b * ux, a * ry + b * uy, a * rz + b * uz
    if s[S_FLAT] > 0:  # orthographic: the ray starts aside instead of turning
        px, py, pz = px + sx, py + sy, pz + sz
    else:
        dx, dy, dz = dx + sx, dy + sy, dz + sz
    if s[S_LENS] > 0:
        u, v = pair(seed, index, DIM_LENS)
        r, phi = s[S_LENS] * math.sqrt(u), 2 * math.pi * v
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
    x, y, z = q[Q_POSITION], q[Q_POSITION_Y], q[Q_POSITION_Z]
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
def _begin(s: Any, q: Any, halves: bool) -> None:
    """Begin the path's sample (Q_INDEX) of its pixel (Q_X, Q_Y).

    Where halves of the samples are kept, each is a sequence of its own, so that neither knows of
    the other: two halves of one sequence fill each other's gaps, and their difference is several
    times the noise of an edge or a fine texture.
    """
    block = np.int64(s[S_BLOCK])
    x, y = np.int64(q[Q_X]), np.int64(q[Q_Y])
    # Divided only where it changes anything.
    column, row = (x // block, y // block) if block > 1 else (x, y)
    q[Q_SEED] = pixel_seed(np.int64(s[S_SEED]), column, row)
    if halves:
        index = np.int64(q[Q_INDEX])
        q[Q_INDEX] = index // 2
        if index % 2:
            q[Q_SEED] = mix(np.uint32(np.uint32(q[Q_SEED]) + OTHER_HALF))
    camera_ray(s, q, x, y)


@linked
def _clear(w: Any, s: Any, p: Any) -> None:
    """Forget what a group's samples before have gathered."""
    for at in range(Q_OUT, Q_LOST):
        p[at] = 0.0
    for at in range(4 * SIDE):
        p[Q_WORK + at] = 0.0
    if s[S_PROFILE] > 0 or s[S_LIGHT_COUNT] > 0:
        for at in range((4 * w[W_LAMP_COUNT] + DEPTHS) * SIDE):
            p[Q_PER_LAMP + at] = 0.0
    masks(p)[M_GOING] = 0
    for at in range(Q_DEPTH, Q_SEED):
        p[at] = 0.0


@linked
def _end(s: Any, q: Any, c: Any) -> float:
    """End the path's sample; returns its luminance.

    What is not a number counts as nothing.
    """
    if s[S_PROFILE] > 0:
        count_touches(q, c, np.int64(q[Q_LAST_KIND]), np.int64(q[Q_DEPTH]), component_of(q))
    if s[S_ONLY] > 0:
        for k in range(COUNT):
            if k + 1 != s[S_ONLY]:
                at = Q_OUT + 3 * SIDE * k
                q[at], q[at + SIDE], q[at + 2 * SIDE] = 0.0, 0.0, 0.0
    r, g, b = _light(q)
    if not (r >= 0 and g >= 0 and b >= 0 and r + g + b < 1e30):
        for at in range(0, 3 * COUNT * SIDE, SIDE):
            q[Q_OUT + at] = 0.0
        return 0.0
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


@inner
def _light(q: Any) -> Any:
    """The light of the path's sample, all components together."""
    r, g, b = 0.0, 0.0, 0.0
    for at in range(Q_OUT, Q_OUT + 3 * COUNT * SIDE, 3 * SIDE):
        r, g, b = r + q[at], g + q[at + SIDE], b + q[at + 2 * SIDE]
    return r, g, b


@linked
def _pairs(w: Any, q: Any, luma: float) -> None:
    """Differences between a sample and the one before it, for what the grain would be without a
    lamp or a bounce.
    """
    t, lamps = thread_of(q), w[W_LAMP_COUNT]
    kept, by_depth = lamps + DEPTHS, Q_PER_LAMP + 4 * SIDE * lamps
    before = THREAD
    if q[Q_SECOND] <= 0:
        t[T_SAMPLE] = luma
        for k in range(kept):
            at = Q_PER_LAMP + SIDE * k if k < lamps else by_depth + SIDE * (k - lamps)
            t[before + k] = q[at]
        return
    sums = before + kept
    d = luma - t[T_SAMPLE]
    t[sums] += 1.0
    t[sums + 1] += luma + t[T_SAMPLE]
    t[sums + 2] += d * d
    for k in range(kept):
        at = Q_PER_LAMP + SIDE * k if k < lamps else by_depth + SIDE * (k - lamps)
        x, y = q[at], t[before + k]
        at = sums + 3 + 3 * k
        t[at] += x + y
        t[at + 1] += d * (x - y)
        t[at + 2] += (x - y) * (x - y)


@linked
def _keep(w: Any, s: Any, q: Any, film: Any, luma: float) -> None:
    """Add the path's sample to its pixel of the film."""
    p, index = np.int64(q[Q_PIXEL]), np.int64(q[Q_FIRST_INDEX])
    r, g, b = _light(q)
    light, lumas = f32_at(film[F_LIGHT]), f32_at(film[F_LUMA])
    light[3 * p] += np.float32(r)
    light[3 * p + 1] += np.float32(g)
    light[3 * p + 2] += np.float32(b)
    lumas[2 * p] += np.float32(luma)
    lumas[2 * p + 1] += np.float32(luma * luma)
    u32_at(film[F_SAMPLES])[p] += np.uint32(1)
    if film[F_ALBEDO] != 0:
        _three(film[F_ALBEDO], p, q[Q_ALBEDO], q[Q_ALBEDO_G], q[Q_ALBEDO_B])
    if film[F_NORMAL] != 0:
        _three(film[F_NORMAL], p, q[Q_NORMAL], q[Q_NORMAL_Y], q[Q_NORMAL_Z])
    if film[F_DEPTH] != 0:
        f32_at(film[F_DEPTH])[p] += np.float32(q[Q_DISTANCE])
    if film[F_MATERIAL] != 0:
        _three(film[F_MATERIAL], p, math.sqrt(q[Q_MET_ALPHA]), q[Q_MET_METAL], q[Q_OPACITY])
    if film[F_LIGHT_SQUARES] != 0:
        _squares(q, film, p, r, g, b)
    if film[F_POSITION] != 0:
        _three(film[F_POSITION], p, q[Q_POSITION], q[Q_POSITION_Y], q[Q_POSITION_Z])
    if film[F_MOTION] != 0:
        mx, my = _motion(w, s, q)
        motion = f32_at(film[F_MOTION])
        motion[2 * p] += np.float32(mx)
        motion[2 * p + 1] += np.float32(my)
    if film[F_OBJECT] != 0 and index == 0 and q[Q_RECORDED] > 0:
        # Numbers do not average: the first sample's object stands, counted from 1, 0 for none.
        f32_at(film[F_OBJECT])[p] = np.float32(q[Q_OBJECT] + 1.0)
    if film[F_WORK] != 0:
        work = q[Q_WORK] + q[Q_WORK_LEAVES] + 2.0 * q[Q_WORK_READS] + 8.0 * q[Q_WORK_SHADES]
        f32_at(film[F_WORK])[p] += np.float32(work)
    if film[F_HALF] != 0 and index % 2 == 0:
        _three(film[F_HALF], p, r, g, b)
    if film[F_COMPONENTS] != 0:
        parts = f32_at(film[F_COMPONENTS])
        for k in range(3 * COUNT):
            parts[3 * COUNT * p + k] += np.float32(q[Q_OUT + SIDE * k])
    if film[F_LIGHTS] != 0:
        lamps = w[W_LAMP_COUNT]
        by_lamp = f32_at(film[F_LIGHTS])
        for k in range(3 * lamps):
            by_lamp[3 * lamps * p + k] += np.float32(q[Q_PER_LAMP + SIDE * (lamps + k)])


@linked
def _squares(q: Any, film: Any, p: int, r: float, g: float, b: float) -> None:
    """Add the squares of a sample's light and guides, from which their variance is known."""
    _three(film[F_LIGHT_SQUARES], p, r * r, g * g, b * b)
    ar, ag, ab = q[Q_ALBEDO], q[Q_ALBEDO_G], q[Q_ALBEDO_B]
    _three(film[F_ALBEDO_SQUARES], p, ar * ar, ag * ag, ab * ab)
    nx, ny, nz = q[Q_NORMAL], q[Q_NORMAL_Y], q[Q_NORMAL_Z]
    _three(film[F_NORMAL_SQUARES], p, nx * nx, ny * ny, nz * nz)
    f32_at(film[F_DEPTH_SQUARES])[p] += np.float32(q[Q_DISTANCE] * q[Q_DISTANCE])


@inner
def _three(address: int, p: int, r: float, g: float, b: float) -> None:
    plane = f32_at(address)
    plane[3 * p] += np.float32(r)
    plane[3 * p + 1] += np.float32(g)
    plane[3 * p + 2] += np.float32(b)


@linked
def _together(w: Any, s: Any, film: Any, b: Any, c: Any, count: int) -> None:
    """Follow the first `count` paths of a batch, and keep their samples in order."""
    for g in range(GROUPS):
        masks(group(w, b, g))[M_GOING] = 0
    for g in range((count + SIDE - 1) // SIDE):
        _clear(w, s, group(w, b, g))
    for i in range(count):
        p, k = group(w, b, i // SIDE), i % SIDE
        masks(p)[M_GOING] |= bit(k)
        _begin(s, own(p, k), film[F_HALF] != 0)
    trace(w, s, b, c)
    for i in range(count):
        q = own(group(w, b, i // SIDE), i % SIDE)
        luma = _end(s, q, c)
        _keep(w, s, q, film, luma)
        if s[S_PROFILE] > 0:
            _pairs(w, q, luma)


@lean
def render_tiles(
    world: int,
    settings: int,
    film_table: int,
    paths: int,
    counters: int,
    boxes: int,
    tiles: int,
    samples: int,
    most: int,
) -> None:
    """Add up to `samples` samples to every active pixel of some tiles, none beyond `most`.

    All but the last three are addresses: of the world's table, the settings, the film's table, a
    thread's paths and counters, and of the tiles, int64 (T, 4): x0, y0, x1, y1 within the film.
    """
    w, s, film, b, c = (
        i64_at(world),
        f64_at(settings),
        i64_at(film_table),
        f64_at(paths),
        i64_at(counters),
    )
    box, width = i64_at(boxes), np.int64(s[S_REGION_W])
    active, have = u8_at(film[F_ACTIVE]), u32_at(film[F_SAMPLES])
    count = np.int64(0)
    for k in range(tiles):
        for y in range(box[4 * k + 1], box[4 * k + 3]):
            for x in range(box[4 * k], box[4 * k + 2]):
                pixel = y * width + x
                if active[pixel] == 0:
                    continue
                first = np.int64(have[pixel])
                for i in range(min(samples, most - first)):
                    q = own(group(w, b, count // SIDE), count % SIDE)
                    q[Q_PIXEL], q[Q_X], q[Q_Y] = pixel, s[S_X0] + x, s[S_Y0] + y
                    q[Q_INDEX], q[Q_FIRST_INDEX], q[Q_SECOND] = first + i, first + i, i % 2
                    count += 1
                    if count == SIDE * GROUPS:
                        _together(w, s, film, b, c, count)
                        count = np.int64(0)
    if count > 0:
        _together(w, s, film, b, c, count)
