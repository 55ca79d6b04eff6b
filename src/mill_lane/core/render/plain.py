"""The twins of `vectors.py` in plain Python: the same names and arguments, one number at a time.

They run as they stand on NumPy arrays (tests compare the two), and compiled they are what the
renderer uses where the vector instructions are not to be had.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba.extending import register_jitable

F = np.float32
WIDTH = 8
BIG = F(3e38)


def boxes_entered(
    nodes: Any,
    base: int,
    near_x: int,
    near_y: int,
    near_z: int,
    ix: Any,
    iy: Any,
    iz: Any,
    ox: Any,
    oy: Any,
    oz: Any,
    limit: Any,
    lanes: Any,
) -> Any:
    """See `vectors.boxes_entered`."""
    mask = np.int32(0)
    for k in range(8):
        near = max((nodes[base + near_x + k] - ox) * ix, F(0))
        near = max((nodes[base + 16 + near_y + k] - oy) * iy, near)
        near = max((nodes[base + 32 + near_z + k] - oz) * iz, near)
        far = min((nodes[base + 8 - near_x + k] - ox) * ix, limit)
        far = min((nodes[base + 24 - near_y + k] - oy) * iy, far)
        far = min((nodes[base + 40 - near_z + k] - oz) * iz, far)
        lanes[k] = near
        if near <= far * F(1.0000004768371582):
            mask |= np.int32(1) << np.int32(k)
    return mask


@register_jitable
def triangle(leaves: Any, p: int, ox: Any, oy: Any, oz: Any, dx: Any, dy: Any, dz: Any) -> Any:
    """(u, v, total, distance along the normal, slope of the ray along it, inside) of one triangle
    of a block.
    """
    ax, ay, az = leaves[p] - ox, leaves[p + 8] - oy, leaves[p + 16] - oz
    bx, by, bz = leaves[p + 24] - ox, leaves[p + 32] - oy, leaves[p + 40] - oz
    cx, cy, cz = leaves[p + 48] - ox, leaves[p + 56] - oy, leaves[p + 64] - oz
    ex, ey, ez = cx - ax, cy - ay, cz - az
    fx, fy, fz = ax - bx, ay - by, az - bz
    gx, gy, gz = bx - cx, by - cy, bz - cz
    sx, sy, sz = cx + ax, cy + ay, cz + az
    u = (ey * sz - ez * sy) * dx + (ez * sx - ex * sz) * dy + (ex * sy - ey * sx) * dz
    sx, sy, sz = ax + bx, ay + by, az + bz
    v = (fy * sz - fz * sy) * dx + (fz * sx - fx * sz) * dy + (fx * sy - fy * sx) * dz
    sx, sy, sz = bx + cx, by + cy, bz + cz
    w = (gy * sz - gz * sy) * dx + (gz * sx - gx * sz) * dy + (gx * sy - gy * sx) * dz
    total = u + v + w
    slack = abs(total) * F(2.0**-17)
    inside = min(u, min(v, w)) >= -slack or max(u, max(v, w)) <= slack
    nx, ny, nz = gy * fz - gz * fy, gz * fx - gx * fz, gx * fy - gy * fx
    return u, v, total, ax * nx + ay * ny + az * nz, nx * dx + ny * dy + nz * dz, inside


def triangles_hit(
    leaves: Any,
    base: int,
    ox: Any,
    oy: Any,
    oz: Any,
    dx: Any,
    dy: Any,
    dz: Any,
    limit: Any,
    lanes: Any,
) -> Any:
    """See `vectors.triangles_hit`."""
    mask = np.int32(0)
    for k in range(8):
        u, v, total, along, slope, inside = triangle(leaves, base + k, ox, oy, oz, dx, dy, dz)
        if inside and slope != 0 and total != 0:
            t = along / slope
            if F(0) < t < limit:
                lanes[k], lanes[8 + k], lanes[16 + k] = t, u / total, v / total
                mask |= np.int32(1) << np.int32(k)
    return mask


def triangles_touched(
    leaves: Any, base: int, ox: Any, oy: Any, oz: Any, dx: Any, dy: Any, dz: Any, limit: Any
) -> Any:
    """See `vectors.triangles_touched`."""
    mask = np.int32(0)
    for k in range(8):
        _, _, _, along, slope, inside = triangle(leaves, base + k, ox, oy, oz, dx, dy, dz)
        if inside and F(0) < along * slope < limit * (slope * slope):
            mask |= np.int32(1) << np.int32(k)
    return mask


def boxes_touched(
    nodes: Any,
    base: int,
    near_x: int,
    near_y: int,
    near_z: int,
    ix: Any,
    iy: Any,
    iz: Any,
    ox: Any,
    oy: Any,
    oz: Any,
    limit: Any,
) -> Any:
    """See `vectors.boxes_touched`."""
    mask = np.int32(0)
    for k in range(8):
        near = max((nodes[base + near_x + k] - ox) * ix, F(0))
        near = max((nodes[base + 16 + near_y + k] - oy) * iy, near)
        near = max((nodes[base + 32 + near_z + k] - oz) * iz, near)
        far = min((nodes[base + 8 - near_x + k] - ox) * ix, limit)
        far = min((nodes[base + 24 - near_y + k] - oy) * iy, far)
        far = min((nodes[base + 40 - near_z + k] - oz) * iz, far)
        if near <= far * F(1.0000004768371582):
            mask |= np.int32(1) << np.int32(k)
    return mask


def grow(box: Any, i: int, other: Any, j: int) -> None:
    """See `vectors.grow`."""
    for k in range(8):
        box[i + k] = min(box[i + k], other[j + k])


def grow_by_centre(box: Any, i: int, other: Any, j: int) -> None:
    """See `vectors.grow_by_centre`."""
    for k in range(3):
        x = other[j + k] - other[j + k + 3]
        box[i + k], box[i + k + 3] = min(box[i + k], x), min(box[i + k + 3], -x)


def swap(pointer: Any, i: int, j: int) -> None:
    """See `vectors.swap`."""
    for k in range(8):
        x = pointer[i + k]
        pointer[i + k] = pointer[j + k]
        pointer[j + k] = x


def fill(pointer: Any, i: int, x: Any) -> None:
    """See `vectors.fill`."""
    for k in range(8):
        pointer[i + k] = x
