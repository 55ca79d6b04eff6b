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
WIDER, SLACK = F(1.0 + 2.0**-21), F(2.0**-22)


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
    ax, ay, az = ix * WIDER, iy * WIDER, iz * WIDER
    sx, sy, sz = abs(ox * ix) * SLACK, abs(oy * iy) * SLACK, abs(oz * iz) * SLACK
    mask = np.int32(0)
    for k in range(8):
        near = max(nodes[base + near_x + k] * ix - (ox * ix + sx), F(0))
        near = max(nodes[base + 16 + near_y + k] * iy - (oy * iy + sy), near)
        near = max(nodes[base + 32 + near_z + k] * iz - (oz * iz + sz), near)
        far = min(nodes[base + 8 - near_x + k] * ax + (sx - ox * ax), limit)
        far = min(nodes[base + 24 - near_y + k] * ay + (sy - oy * ay), far)
        far = min(nodes[base + 40 - near_z + k] * az + (sz - oz * az), far)
        lanes[k] = near
        if near <= far:
            mask |= np.int32(1) << np.int32(k)
    return mask


@register_jitable
def edge(ax: Any, ay: Any, bx: Any, by: Any) -> Any:
    """Twice the area between two corners and 0.

    Taken both ways, so that turned round it is the same but for its sign, even where the compiler
    multiplies and adds in one step.
    """
    return ((ax * by - ay * bx) - (bx * ay - by * ax)) * F(0.5)


@register_jitable
def triangle(
    leaves: Any, p: int, x: int, y: int, z: int, ox: Any, oy: Any, oz: Any, sx: Any, sy: Any
) -> Any:
    """(weights of the corners times the total, total, depth along the last axis times the total,
    inside) of one triangle of a block.
    """
    az, bz, cz = leaves[p + z] - oz, leaves[p + 24 + z] - oz, leaves[p + 48 + z] - oz
    ax, ay = (leaves[p + x] - ox) - sx * az, (leaves[p + y] - oy) - sy * az
    bx, by = (leaves[p + 24 + x] - ox) - sx * bz, (leaves[p + 24 + y] - oy) - sy * bz
    cx, cy = (leaves[p + 48 + x] - ox) - sx * cz, (leaves[p + 48 + y] - oy) - sy * cz
    u, v, w = edge(cx, cy, bx, by), edge(ax, ay, cx, cy), edge(bx, by, ax, ay)
    total = u + v + w
    slack = abs(total) * F(2.0**-17)
    inside = min(u, min(v, w)) >= -slack or max(u, max(v, w)) <= slack
    return v, w, total, u * az + (v * bz + w * cz), inside


def triangles_hit(
    leaves: Any,
    base: int,
    x: int,
    y: int,
    z: int,
    ox: Any,
    oy: Any,
    oz: Any,
    sx: Any,
    sy: Any,
    sz: Any,
    limit: Any,
    lanes: Any,
) -> Any:
    """See `vectors.triangles_hit`."""
    mask = np.int32(0)
    for k in range(8):
        v, w, total, depth, inside = triangle(leaves, base + k, x, y, z, ox, oy, oz, sx, sy)
        if inside and total != 0:
            t = depth * sz / total
            if F(0) < t < limit:
                lanes[k], lanes[8 + k], lanes[16 + k] = t, v / total, w / total
                mask |= np.int32(1) << np.int32(k)
    return mask


def triangles_touched(
    leaves: Any,
    base: int,
    x: int,
    y: int,
    z: int,
    ox: Any,
    oy: Any,
    oz: Any,
    sx: Any,
    sy: Any,
    sz: Any,
    limit: Any,
) -> Any:
    """See `vectors.triangles_touched`."""
    mask = np.int32(0)
    for k in range(8):
        _, _, total, depth, inside = triangle(leaves, base + k, x, y, z, ox, oy, oz, sx, sy)
        if inside and F(0) < depth * sz * total < limit * (total * total):
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
