"""How near the camera really comes: the closest point of triangles, not of boxes round them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.progress import Progress, silent
from mill_lane.core.render.jit import inner, kernel
from mill_lane.core.scene.model import Geometry, Part
from mill_lane.core.weigh.frames import Nearest, Track

F64 = NDArray[np.float64]


@inner
def _to_triangle(px: float, py: float, pz: float, a: Any, b: Any, c: Any) -> float:
    """The squared distance from a point to a triangle (Ericson, Real-Time Collision Detection,
    section 5.1.5).
    """
    abx, aby, abz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    acx, acy, acz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    apx, apy, apz = px - a[0], py - a[1], pz - a[2]
    d1, d2 = abx * apx + aby * apy + abz * apz, acx * apx + acy * apy + acz * apz
    d3, d4 = d1 - (abx * abx + aby * aby + abz * abz), d2 - (acx * abx + acy * aby + acz * abz)
    d5, d6 = d1 - (abx * acx + aby * acy + abz * acz), d2 - (acx * acx + acy * acy + acz * acz)
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    v = w = 0.0
    if d1 <= 0 and d2 <= 0:
        pass
    elif d3 >= 0 and d4 <= d3:
        v = 1.0
    elif d6 >= 0 and d5 <= d6:
        w = 1.0
    elif vc <= 0 and d1 >= 0 and d3 <= 0:
        v = d1 / (d1 - d3)
    elif vb <= 0 and d2 >= 0 and d6 <= 0:
        w = d2 / (d2 - d6)
    elif va <= 0 and d4 >= d3 and d5 >= d6:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        v = 1.0 - w
    elif va + vb + vc > 0:
        v, w = vb / (va + vb + vc), vc / (va + vb + vc)
    x, y, z = apx - v * abx - w * acx, apy - v * aby - w * acy, apz - v * abz - w * acz
    return x * x + y * y + z * z


@kernel
def closest_of(points: Any, positions: Any, triangles: Any, matrix: Any, within: float) -> Any:
    """The least squared distance from any of the points to any of the triangles, and which point it
    is.

    points : float64 (F, 3), world.  positions : float32 (V, 3), placed by `matrix`, float64 (3, 4).
    Nothing nearer than `within` (squared): `within` and -1.
    """
    best, which = within, -1
    lo, hi = points[0].copy(), points[0].copy()
    for f in range(len(points)):
        for k in range(3):
            lo[k], hi[k] = min(lo[k], points[f, k]), max(hi[k], points[f, k])
    q = np.empty((3, 3))
    for t in range(len(triangles)):
        for c in range(3):
            p = positions[np.int64(triangles[t, c])]
            for k in range(3):
                q[c, k] = (
                    matrix[k, 0] * p[0] + matrix[k, 1] * p[1] + matrix[k, 2] * p[2] + matrix[k, 3]
                )
        # Box against box first: most triangles are farther than the nearest so far.
        gap = 0.0
        for k in range(3):
            least, most = min(q[0, k], min(q[1, k], q[2, k])), max(q[0, k], max(q[1, k], q[2, k]))
            d = max(0.0, max(least - hi[k], lo[k] - most))
            gap += d * d
        if gap >= best:
            continue
        for f in range(len(points)):
            d = _to_triangle(points[f, 0], points[f, 1], points[f, 2], q[0], q[1], q[2])
            if d < best:
                best, which = d, f
    return best, which


def refine(
    track: Track,
    parts: list[tuple[int, int, int, Part]],
    lo: F64,
    hi: F64,
    boxes: Callable[[F64, F64, F64], F64],
    progress: Progress = silent,
) -> Nearest:
    """Distances from the camera to the surfaces themselves, the nearest over all frames and copies.

    lo, hi : (F or 1, N, 3) boxes of the placed parts, whose distances (`boxes`) tell where looking
    is worth while: what stands farther than the nearest surface found is not read.
    """
    frames = len(track.positions)
    shortest = np.array(
        [
            boxes(track.positions[f : f + 1], lo[f % len(lo)], hi[f % len(lo)])[0]
            for f in range(frames)
        ]
    )
    by_part: dict[tuple[int, int], list[int]] = {}
    for j, (_, m, i, p) in enumerate(parts):
        if p.triangles:
            by_part.setdefault((m, i), []).append(j)
    out: Nearest = {}
    for done, (key, placed) in enumerate(by_part.items()):
        out[key] = _nearest_of(track, parts, placed, shortest)
        progress((done + 1) / len(by_part), f"distances: {done + 1} of {len(by_part)} meshes")
    return out


def _nearest_of(
    track: Track, parts: list[tuple[int, int, int, Part]], placed: list[int], shortest: F64
) -> tuple[float, int, int]:
    best, at, where = np.inf, 0, parts[placed[0]][0]
    geometry: Geometry | None = None
    still = len(track.matrices) == 1
    # Still things are asked for all frames at once, moving ones frame by frame; the most promising
    # first.
    if still:
        asked = [(float(shortest[:, j].min()), j, -1) for j in placed]
    else:
        asked = [(float(shortest[f, j]), j, f) for j in placed for f in range(len(shortest))]
    for bound, j, f in sorted(asked):
        if bound * bound >= best:
            break
        node, _, _, p = parts[j]
        geometry = geometry or p.load()
        points = track.positions if f < 0 else track.positions[f : f + 1]
        matrix = track.matrices[0 if f < 0 else f][node][:3]
        found, which = closest_of(
            np.ascontiguousarray(points), geometry.positions, geometry.triangles, matrix, best
        )
        if which >= 0:
            best, at, where = found, which if f < 0 else f, node
    return float(np.sqrt(best)), at, where
