"""Points on emissive meshes, spread over their area or by the brightness of their picture."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render.jit import linked
from mill_lane.core.render.materials import emitted
from mill_lane.core.render.pointers import f32_at, f64_at, i64_at
from mill_lane.core.render.side_by_side import thread_of
from mill_lane.core.render.slots import *
from mill_lane.core.render.surface import corner_and_edges, corner_numbers, turned
from mill_lane.core.render.traverse import moving_matrices

FINE = -60.0  # a level below any texture's: the picture itself is read


@linked
def search(running: Any, n: int, skip: int, u: float) -> int:
    """The first of n indices whose running sum is above u, the first `skip` entries left out."""
    low, high = np.int64(0), n - 1
    while low < high:
        middle = (low + high) // 2
        if running[middle + skip] > u:
            high = middle
        else:
            low = middle + 1
    return low


@linked
def sample_mesh(w: Any, q: Any, row: Any, chance: float, pick: float, a: float, b: float) -> bool:
    """A point of an emissive mesh: evenly over its area, or by the brightness of its picture."""
    first, count = np.int64(row[L_FIRST]), np.int64(row[L_COUNT])
    areas = f64_at(w[W_LAMP_AREAS] + 8 * first)
    chosen = search(areas, count, 0, pick)
    slot = i64_at(w[W_LAMP_SLOTS])[first + chosen]
    root = math.sqrt(a)
    u, v = root * (1 - b), root * b
    per_area = 1.0 / abs(row[L_AREA])
    if row[L_PATCHED] > 0:
        before = areas[chosen - 1] if chosen > 0 else 0.0
        left = (pick - before) / max(areas[chosen] - before, 1e-300)
        u, v, per_area = _sample_half(w, first + chosen, min(max(left, 0.0), 0.9999999), u, v)
    where = np.int64(row[L_INSTANCE])
    at = i64_at(w[W_INSTANCES] + 8 * INSTANCE_COLUMNS * where)
    if at[P_MOVE] >= 0:
        moving_matrices(w, q, at[P_MOVE])
        m, i = thread_of(q), T_MATRIX + 12
    else:
        m, i = f64_at(w[W_TO_WORLD]), where * 12
    (p0x, p0y, p0z), (e1x, e1y, e1z), (e2x, e2y, e2z) = corner_and_edges(w, slot)
    lx, ly, lz = p0x + u * e1x + v * e2x, p0y + u * e1y + v * e2y, p0z + u * e1z + v * e2z
    x = m[i] * lx + m[i + 1] * ly + m[i + 2] * lz + m[i + 3] - q[Q_AX]
    y = m[i + 4] * lx + m[i + 5] * ly + m[i + 6] * lz + m[i + 7] - q[Q_AY]
    z = m[i + 8] * lx + m[i + 9] * ly + m[i + 10] * lz + m[i + 11] - q[Q_AZ]
    (ax, ay, az), (bx, by, bz) = turned(m, i, e1x, e1y, e1z), turned(m, i, e2x, e2y, e2z)
    nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    # A mirrored placement turns the corners' order round; the lamp's area carries its sign.
    front = -(nx * x + ny * y + nz * z) * (1.0 if row[L_AREA] > 0 else -1.0)
    if front <= 0 and row[L_TWO_SIDED] <= 0:
        return False
    d2 = x * x + y * y + z * z
    d = math.sqrt(d2)
    length = math.sqrt(nx * nx + ny * ny + nz * nz)
    if d < 1e-9 or length <= 0:
        return False
    facing = abs(front) / (length * d)
    if facing < 1e-9:
        return False
    material = at[P_MATERIAL]
    # The event's place on its texture makes way for a moment.
    u_, v_, level = q[Q_U], q[Q_V], q[Q_LEVEL]
    u2, v2, level2 = q[Q_U_SECOND], q[Q_V_SECOND], q[Q_LEVEL_SECOND]
    q[Q_U], q[Q_V], q[Q_LEVEL] = 0.0, 0.0, FINE
    q[Q_U_SECOND], q[Q_V_SECOND], q[Q_LEVEL_SECOND] = 0.0, 0.0, FINE
    if at[P_UV] >= 0 or at[P_UV_SECOND] >= 0:
        k0, k1, k2 = corner_numbers(w, at[P_TRIANGLE], slot)
        c = 1 - u - v
        if at[P_UV] >= 0:
            uvs = f32_at(w[W_UVS] + 8 * at[P_UV])
            q[Q_U] = c * uvs[2 * k0] + u * uvs[2 * k1] + v * uvs[2 * k2]
            q[Q_V] = c * uvs[2 * k0 + 1] + u * uvs[2 * k1 + 1] + v * uvs[2 * k2 + 1]
        if at[P_UV_SECOND] >= 0:
            uvs = f32_at(w[W_UVS] + 8 * at[P_UV_SECOND])
            q[Q_U_SECOND] = c * uvs[2 * k0] + u * uvs[2 * k1] + v * uvs[2 * k2]
            q[Q_V_SECOND] = c * uvs[2 * k0 + 1] + u * uvs[2 * k1 + 1] + v * uvs[2 * k2 + 1]
    r, g, bl = emitted(w, q, material)
    q[Q_U], q[Q_V], q[Q_LEVEL] = u_, v_, level
    q[Q_U_SECOND], q[Q_V_SECOND], q[Q_LEVEL_SECOND] = u2, v2, level2
    scale = row[L_SCALE]
    q[Q_LX], q[Q_LY], q[Q_LZ], q[Q_LDIST] = x / d, y / d, z / d, d
    q[Q_LR], q[Q_LG], q[Q_LB] = r * scale, g * scale, bl * scale
    q[Q_LCHANCE] = chance * per_area * d2 / facing
    return r + g + bl > 0


@linked
def _sample_half(w: Any, triangle: int, pick: float, u: float, v: float) -> Any:
    """A half of a cut triangle (`emissive_texture`) by its brightness, and a point on it:

    barycentric u and v, and the density over the mesh's area.  The u and v given are spread evenly
    over a triangle.
    """
    ranges = i64_at(w[W_PATCH_RANGES] + 16 * triangle)
    n = ranges[1]
    halves = f64_at(w[W_PATCHES] + 16 * ranges[0])
    low, high = np.int64(0), 2 * n * n - 1
    while low < high:
        middle = (low + high) // 2
        if halves[2 * middle] > pick:
            high = middle
        else:
            low = middle + 1
    cell = low >> 1
    row = cell // n
    column = cell - row * n
    if low & 1:
        u, v = 1.0 - u, 1.0 - v
    return (column + u) / n, (row + v) / n, halves[2 * low + 1]


@linked
def half_density(w: Any, q: Any, row: Any) -> float:
    """The density over its area with which the place just hit is chosen on an emissive mesh."""
    first, low = np.int64(row[L_FIRST]), np.int64(0)
    high = np.int64(row[L_COUNT]) - 1
    slots, slot = i64_at(w[W_LAMP_SLOTS] + 8 * first), np.int64(q[Q_SLOT])
    while low < high:
        middle = (low + high) // 2
        if slots[middle] < slot:
            low = middle + 1
        else:
            high = middle
    if slots[low] != slot:
        return 0.0
    ranges = i64_at(w[W_PATCH_RANGES] + 16 * (first + low))
    n = ranges[1]
    x, y = max(q[Q_BU], 0.0) * n, max(q[Q_BV], 0.0) * n
    column, line = min(np.int64(x), n - 1), min(np.int64(y), n - 1)
    upper = (
        np.int64(1) if (x - column) + (y - line) > 1.0 and column + line + 1 < n else np.int64(0)
    )
    half = 2 * (line * n + column) + upper
    return f64_at(w[W_PATCHES] + 16 * ranges[0])[2 * half + 1]
