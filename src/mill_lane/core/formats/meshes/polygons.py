"""Polygons cut into triangles: fans where they are convex, ears where they are not."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.meshes.soup import Ints, fans

F64 = NDArray[np.float64]
LARGEST_EARS = 2000  # corners of a polygon that is cut by ears; larger ones stay fans


def cut(counts: Ints, corners: F64) -> Ints:
    """Triangles of polygons, as positions in the list of all corners.

    Parameters
    ----------
    counts : array of int64, (F,)
        Corners of each polygon; those with fewer than three give nothing.
    corners : array of float64, (C, 3)
        Where each corner stands.

    Returns
    -------
    array of int64, (T, 3)
        Two fewer than corners for each polygon, in the order of the polygons, going round as they
        do.

    References
    ----------
    Meisters, "Polygons Have Ears", American Mathematical Monthly 82, 1975.
    """
    out = fans(counts)
    first = np.cumsum(counts) - counts
    triangle = np.cumsum(np.maximum(counts - 2, 0)) - np.maximum(counts - 2, 0)
    for n in np.unique(counts[counts > 3]):
        rows = np.flatnonzero(counts == n)
        for part in np.array_split(rows, 1 + len(rows) * int(n) // 2_000_000):
            at = first[part][:, None] + np.arange(n)
            for k in part[_concave(corners[at])]:
                if n > LARGEST_EARS:
                    continue
                found = ears(corners[first[k] : first[k] + n])
                if found is not None:
                    out[triangle[k] : triangle[k] + n - 2] = first[k] + found
    return out


def _concave(p: F64) -> NDArray[np.bool_]:
    """Which of some polygons (F, n, 3) turn the other way at a corner; not a number counts not."""
    ahead = np.roll(p, -1, 1) - p
    turn = np.cross(np.roll(ahead, 1, 1), ahead)
    normal = turn.sum(1)  # of Newell's kind: large corners weigh more
    whole = np.cross(p - p[:, :1], np.roll(p, -1, 1) - p[:, :1]).sum(1)
    normal = np.where((np.abs(whole).max(1) > 0)[:, None], whole, normal)
    along = (turn * normal[:, None]).sum(2)
    size = np.abs(along).max(1)
    with np.errstate(invalid="ignore"):
        return np.asarray((along < -1e-9 * size[:, None]).any(1))


def ears(p: F64) -> Ints | None:
    """The triangles (n - 2, 3) of one polygon (n, 3), ear by ear; None where there is no ear."""
    normal = np.cross(p - p[0], np.roll(p, -1, 0) - p[0]).sum(0)
    axis = int(np.abs(normal).argmax())
    flat = np.delete(p, axis, 1)
    if (normal[axis] > 0) == (axis == 1):  # dropping the middle axis mirrors the plane
        flat = flat[:, ::-1]
    left = list(range(len(p)))
    out = []
    while len(left) > 3:
        for i in range(len(left)):
            a, b, c = left[i - 1], left[i], left[(i + 1) % len(left)]
            if _turn(flat[a], flat[b], flat[c]) <= 0:
                continue
            others = flat[[k for k in left if k not in (a, b, c)]]
            if not _inside(flat[a], flat[b], flat[c], others):
                out.append((a, b, c))
                left.pop(i)
                break
        else:
            return None
    out.append((left[0], left[1], left[2]))
    return np.array(out, np.int64)


def _turn(a: F64, b: F64, c: F64) -> float:
    return float((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]))


def _inside(a: F64, b: F64, c: F64, points: F64) -> bool:
    """Whether any point lies within a triangle that goes round counter-clockwise."""
    sides = [
        (q[0] - p[0]) * (points[:, 1] - p[1]) - (q[1] - p[1]) * (points[:, 0] - p[0])
        for p, q in ((a, b), (b, c), (c, a))
    ]
    return bool((np.minimum(np.minimum(sides[0], sides[1]), sides[2]) >= 0).any())
