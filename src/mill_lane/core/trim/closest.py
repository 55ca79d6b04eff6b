"""The closest points of a mesh, for many points at once: by a tree over its triangles in the order
of a space-filling curve.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.compiled import compiler_of

compiled = compiler_of(__file__)
F64 = NDArray[np.float64]
LEAF = 4  # triangles
BITS = 10  # of the curve, each way


@dataclass(frozen=True, eq=False)
class Tree:
    """Triangles in the order of the curve and boxes round them.

    corners : float64 (T, 3, 3).  order : int64 (T,), which triangle of the mesh each is.  low,
    high : float64 (2 L, 3), a complete binary tree: node k has the children 2 k and 2 k + 1, its
    last L nodes are leaves of `LEAF` triangles.
    """

    corners: F64
    order: NDArray[np.int64]
    low: F64
    high: F64


@dataclass(frozen=True, eq=False)
class Closest:
    """What was found for P points: distances (P,), triangles (P,), barycentric weights (P, 3)."""

    distance: F64
    triangle: NDArray[np.int64]
    weights: F64


def tree_of(positions: NDArray[Any], triangles: NDArray[Any]) -> Tree:
    """The tree of a mesh of at least one triangle."""
    corners = positions[triangles].astype(np.float64)
    order = np.argsort(_along_the_curve(corners.mean(1)), kind="stable")
    corners = np.ascontiguousarray(corners[order])
    leaves = 1 << max(0, int(np.ceil(np.log2(max(1, -(-len(corners) // LEAF))))))
    low, high = np.full((2 * leaves, 3), np.inf), np.full((2 * leaves, 3), -np.inf)
    starts = np.arange(0, len(corners), LEAF)
    low[leaves : leaves + len(starts)] = np.minimum.reduceat(corners.min(1), starts)
    high[leaves : leaves + len(starts)] = np.maximum.reduceat(corners.max(1), starts)
    n = leaves
    while n > 1:
        low[n // 2 : n] = np.minimum(low[n : 2 * n : 2], low[n + 1 : 2 * n : 2])
        high[n // 2 : n] = np.maximum(high[n : 2 * n : 2], high[n + 1 : 2 * n : 2])
        n //= 2
    return Tree(corners, order, low, high)


def _along_the_curve(points: F64) -> NDArray[np.int64]:
    """Where points (N, 3) lie along a Z-order curve (Morton 1966)."""
    low = points.min(0)
    size = max(float((points.max(0) - low).max()), 1e-300)
    cells = np.minimum((points - low) / size * (1 << BITS), (1 << BITS) - 1).astype(np.int64)
    out = np.zeros(len(points), np.int64)
    for bit in range(BITS):
        for axis in range(3):
            out |= ((cells[:, axis] >> bit) & 1) << (3 * bit + axis)
    return out


def closest(tree: Tree, points: NDArray[Any]) -> Closest:
    """The closest point of the mesh to each of some points (P, 3)."""
    asked = np.ascontiguousarray(points, np.float64)
    distance, triangle = np.empty(len(asked)), np.empty(len(asked), np.int64)
    weights = np.empty((len(asked), 3))
    _search(asked, tree.corners, tree.low, tree.high, distance, triangle, weights)
    return Closest(distance, tree.order[triangle], weights)


@compiled
def _to_triangle(corners: Any, x: float, y: float, z: float, near: Any) -> float:
    """The squared distance to a triangle (3, 3), and the weights of the closest point in `near`
    (Ericson, Real-Time Collision Detection, section 5.1.5).
    """
    a, b, c = corners[0], corners[1], corners[2]
    abx, aby, abz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    acx, acy, acz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    apx, apy, apz = x - a[0], y - a[1], z - a[2]
    d1, d2 = abx * apx + aby * apy + abz * apz, acx * apx + acy * apy + acz * apz
    ab, ac = abx * abx + aby * aby + abz * abz, acx * acx + acy * acy + acz * acz
    cross = abx * acx + aby * acy + abz * acz
    d3, d4, d5, d6 = d1 - ab, d2 - cross, d1 - cross, d2 - ac
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    v, w = 0.0, 0.0
    if d1 <= 0 and d2 <= 0:
        pass
    elif d3 >= 0 and d4 <= d3:
        v = 1.0
    elif d6 >= 0 and d5 <= d6:
        w = 1.0
    elif vc <= 0 and d1 >= 0 and d3 <= 0:
        v = d1 / (d1 - d3) if d1 != d3 else 0.0
    elif vb <= 0 and d2 >= 0 and d6 <= 0:
        w = d2 / (d2 - d6) if d2 != d6 else 0.0
    elif va <= 0 and d4 >= d3 and d5 >= d6:
        along = (d4 - d3) + (d5 - d6)
        w = (d4 - d3) / along if along > 0 else 0.0
        v = 1.0 - w
    elif va + vb + vc > 0:
        v, w = vb / (va + vb + vc), vc / (va + vb + vc)
    near[0], near[1], near[2] = 1.0 - v - w, v, w
    dx, dy, dz = apx - v * abx - w * acx, apy - v * aby - w * acy, apz - v * abz - w * acz
    return dx * dx + dy * dy + dz * dz


@compiled
def _search(
    points: Any, corners: Any, low: Any, high: Any, distance: Any, triangle: Any, weights: Any
) -> None:
    leaves = len(low) // 2
    stack = np.empty(96, np.int64)
    gaps = np.empty(96, np.float64)
    near = np.empty(3, np.float64)

    def gap_to(k: int, x: float, y: float, z: float) -> float:
        dx = max(low[k, 0] - x, x - high[k, 0])
        dy = max(low[k, 1] - y, y - high[k, 1])
        dz = max(low[k, 2] - z, z - high[k, 2])
        dx, dy, dz = max(dx, 0.0), max(dy, 0.0), max(dz, 0.0)
        return dx * dx + dy * dy + dz * dz

    for i in range(len(points)):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        best, found = np.inf, 0
        weights[i, 0], weights[i, 1], weights[i, 2] = 1.0, 0.0, 0.0
        stack[0], gaps[0], top = 1, 0.0, 1
        while top > 0:
            top -= 1
            k = stack[top]
            if gaps[top] >= best:
                continue
            if k >= leaves:
                first = (k - leaves) * LEAF
                for t in range(first, min(first + LEAF, len(corners))):
                    d = _to_triangle(corners[t], x, y, z, near)
                    if d < best:
                        best, found = d, t
                        weights[i, 0], weights[i, 1], weights[i, 2] = near[0], near[1], near[2]
                continue
            one, other = 2 * k, 2 * k + 1
            g, h = gap_to(one, x, y, z), gap_to(other, x, y, z)
            if g < h:
                one, other, g, h = other, one, h, g
            if g < best:
                stack[top], gaps[top] = one, g
                top += 1
            if h < best:
                stack[top], gaps[top] = other, h
                top += 1
        distance[i], triangle[i] = np.sqrt(best), found


def closest_within(
    corners: F64, became: NDArray[np.int64], points: NDArray[Any]
) -> tuple[NDArray[np.int64], F64]:
    """The closest point to each of some points among the triangles that belong to it.

    Parameters
    ----------
    corners : array of float64, (T, 3, 3)
    became : array of int64, (T, 3)
        To which of the points each corner belongs, and its triangle with it; -1 for none.
    points : array, (P, 3)

    Returns
    -------
    triangle : array of int64, (P,)
        -1 for a point without any.
    weights : array of float64, (P, 3)
        Barycentric.
    """
    best, triangle = np.full(len(points), np.inf), np.full(len(points), -1)
    weights = np.zeros((len(points), 3))
    _search_within(corners, became, np.asarray(points, np.float64), best, triangle, weights)
    return triangle, weights


@compiled
def _search_within(
    corners: Any, became: Any, points: Any, best: Any, triangle: Any, weights: Any
) -> None:
    near = np.empty(3, np.float64)
    for t in range(len(corners)):
        for c in range(3):
            n = became[t, c]
            if n < 0 or (c > 0 and n == became[t, 0]) or (c > 1 and n == became[t, 1]):
                continue
            d = _to_triangle(corners[t], points[n, 0], points[n, 1], points[n, 2], near)
            if d < best[n]:
                best[n], triangle[n] = d, t
                for k in range(3):
                    weights[n, k] = near[k]
