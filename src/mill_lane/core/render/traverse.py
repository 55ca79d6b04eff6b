"""Following rays through the two levels of boxes: instances in the world, triangles in each mesh.

Triangles are tested by signed volumes of the edges against the ray (Pluecker coordinates), so that two triangles that
share an edge leave no gap between them.  Everything is float32, and t counts in lengths of the world direction.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render.jit import kernel, lean

STACK = 192  # 64 for the instances, 128 for a mesh below them
F = np.float32
ONE = np.uint64(1)  # indices are unsigned: Numba adds a test for negative ones to every signed index


class Accel(NamedTuple):
    """What a ray needs to find its hit.  N nodes, M meshes, I instances, V vertices, T triangles."""

    top_boxes: NDArray[np.float32]  # (N, 6) world boxes over the instances
    top_links: NDArray[np.uint32]  # (N, 2)
    top_order: NDArray[np.uint32]  # (I,)
    to_object: NDArray[np.float32]  # (I, 12) rows of world-to-object
    instance_root: NDArray[np.uint32]  # (I,) root node of the instance's mesh
    boxes: NDArray[np.float32]  # (N, 6)
    links: NDArray[np.uint32]  # (N, 2) leaves point into `triangles`
    triangles: NDArray[np.uint32]  # (T, 3) in leaf order
    positions: NDArray[np.float32]  # (V, 3)


@lean
def _inverse(d: Any) -> Any:
    if abs(d) < F(1e-18):
        return F(1e18) if d >= 0 else F(-1e18)
    return F(1) / d


@lean
def _enter(boxes: Any, n: int, ox: Any, oy: Any, oz: Any, ix: Any, iy: Any, iz: Any, limit: Any) -> Any:
    """The distance at which a ray enters a box, or 1e30; slightly widened so that no edge is missed."""
    ax, bx = (boxes[n, 0] - ox) * ix, (boxes[n, 3] - ox) * ix
    ay, by = (boxes[n, 1] - oy) * iy, (boxes[n, 4] - oy) * iy
    az, bz = (boxes[n, 2] - oz) * iz, (boxes[n, 5] - oz) * iz
    near = max(max(min(ax, bx), min(ay, by)), max(min(az, bz), F(0)))
    far = min(min(max(ax, bx), max(ay, by)), min(max(az, bz), limit))
    return near if near <= far * F(1.0000005) else F(1e30)


@lean
def _triangle(p: Any, t: Any, i: int, ox: Any, oy: Any, oz: Any, dx: Any, dy: Any, dz: Any) -> Any:
    """(t, u, v) of a hit, u and v weighing the second and third vertex; t is -1 for a miss."""
    a, b, c = t[i, 0], t[i, 1], t[i, 2]
    ax, ay, az = p[a, 0] - ox, p[a, 1] - oy, p[a, 2] - oz
    bx, by, bz = p[b, 0] - ox, p[b, 1] - oy, p[b, 2] - oz
    cx, cy, cz = p[c, 0] - ox, p[c, 1] - oy, p[c, 2] - oz
    # Six times the signed volume of the ray's direction with each edge.
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
    slack = abs(total) * F(1.2e-7)
    if min(u, min(v, w)) < -slack and max(u, max(v, w)) > slack:
        return F(-1), u, v
    nx, ny, nz = fy * gz - fz * gy, fz * gx - fx * gz, fx * gy - fy * gx
    along = nx * dx + ny * dy + nz * dz
    if along == 0 or total == 0:
        return F(-1), u, v
    return (ax * nx + ay * ny + az * nz) / along, u / total, v / total


@lean
def _point(m: Any, i: int, x: Any, y: Any, z: Any) -> Any:
    return (
        m[i, 0] * x + m[i, 1] * y + m[i, 2] * z + m[i, 3],
        m[i, 4] * x + m[i, 5] * y + m[i, 6] * z + m[i, 7],
        m[i, 8] * x + m[i, 9] * y + m[i, 10] * z + m[i, 11],
    )


@lean
def _direction(m: Any, i: int, x: Any, y: Any, z: Any) -> Any:
    return (
        m[i, 0] * x + m[i, 1] * y + m[i, 2] * z,
        m[i, 4] * x + m[i, 5] * y + m[i, 6] * z,
        m[i, 8] * x + m[i, 9] * y + m[i, 10] * z,
    )


@lean
def closest(a: Any, ox: Any, oy: Any, oz: Any, dx: Any, dy: Any, dz: Any, least: Any, most: Any, stack: Any) -> Any:
    """The nearest hit with least < t < most: (t, u, v, triangle, instance); instance -1 for a miss.

    `stack` is uint32 scratch of length STACK.  All numbers are float32.
    """
    best, hit_u, hit_v, hit_triangle, hit_instance = most, F(0), F(0), -1, -1
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    if a.top_order.shape[0] == 0:
        return best, hit_u, hit_v, hit_triangle, hit_instance
    top = ONE
    stack[0] = 0
    while top > 0:
        top -= ONE
        node = np.uint64(stack[top])
        if _enter(a.top_boxes, node, ox, oy, oz, ix, iy, iz, best) > best:
            continue
        first, count = np.uint64(a.top_links[node, 0]), np.uint64(a.top_links[node, 1])
        if count == 0:
            near = _enter(a.top_boxes, first, ox, oy, oz, ix, iy, iz, best)
            far = _enter(a.top_boxes, first + ONE, ox, oy, oz, ix, iy, iz, best)
            swap = far < near
            if max(near, far) < F(1e30):
                stack[top] = first if swap else first + ONE
                top += ONE
            if min(near, far) < F(1e30):
                stack[top] = first + ONE if swap else first
                top += ONE
            continue
        for k in range(first, first + count):
            inst = np.uint64(a.top_order[k])
            px, py, pz = _point(a.to_object, inst, ox, oy, oz)
            qx, qy, qz = _direction(a.to_object, inst, dx, dy, dz)
            jx, jy, jz = _inverse(qx), _inverse(qy), _inverse(qz)
            base = top
            stack[top] = a.instance_root[inst]
            top += ONE
            while top > base:
                top -= ONE
                node = np.uint64(stack[top])
                if _enter(a.boxes, node, px, py, pz, jx, jy, jz, best) > best:
                    continue
                while True:
                    begin, n = np.uint64(a.links[node, 0]), np.uint64(a.links[node, 1])
                    if n > 0:
                        for i in range(begin, begin + n):
                            t, u, v = _triangle(a.positions, a.triangles, i, px, py, pz, qx, qy, qz)
                            if least < t < best:
                                best, hit_u, hit_v, hit_triangle, hit_instance = t, u, v, np.int64(i), np.int64(inst)
                        break
                    near = _enter(a.boxes, begin, px, py, pz, jx, jy, jz, best)
                    far = _enter(a.boxes, begin + ONE, px, py, pz, jx, jy, jz, best)
                    if near <= far:
                        if near == F(1e30):
                            break
                        if far < F(1e30):
                            stack[top] = begin + ONE
                            top += ONE
                        node = begin
                    else:
                        if near < F(1e30):
                            stack[top] = begin
                            top += ONE
                        node = begin + ONE
    return best, hit_u, hit_v, hit_triangle, hit_instance


@kernel
def closest_batch(a: Any, origins: Any, directions: Any, t: Any, triangle: Any, instance: Any) -> None:
    """Nearest hits of many rays, for tests, benches and weighing: float32 (R, 3) twice; fills three (R,) arrays."""
    stack = np.empty(STACK, np.uint32)
    for r in range(origins.shape[0]):
        hit = closest(
            a, origins[r, 0], origins[r, 1], origins[r, 2],
            directions[r, 0], directions[r, 1], directions[r, 2], F(0), F(1e30), stack,
        )  # fmt: skip
        t[r], triangle[r], instance[r] = hit[0], hit[3], hit[4]
