"""Meshes that are copies of others, also where a rotation, a mirroring or a scale was baked into
the vertices.

Vertices must stand in the same order, as they do when an object was duplicated and its transform
applied.  Two meshes of the same triangles and places on textures are copies when one affine map,
fitted by least squares, carries every vertex and every normal of the one onto the other's.
"""

from __future__ import annotations

import hashlib
from collections import defaultdict
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.meshes.soup import whole
from mill_lane.core.scene.model import Geometry, Scene

F64 = NDArray[np.float64]
# of the size and the distance from the origin: what float32 rounds away, and a few roundings more
NEAR = 2e-6
NORMALS = 2e-2  # by which normals may differ, which exporters often keep in few bits


@dataclass(frozen=True)
class Duplicate:
    """That a mesh could be drawn as another one; `baked` when that takes a transform of its own."""

    of: int
    baked: bool


def find_duplicates(scene: Scene, meshes: list[int]) -> dict[int, Duplicate]:
    """Meshes that are copies of an earlier one.

    Only meshes of equal counts are read; materials must agree.
    """
    alike: dict[Any, list[int]] = defaultdict(list)
    for m in meshes:
        parts = scene.meshes[m].parts
        alike[tuple((p.vertices, p.triangles, p.material, p.has_uvs) for p in parts)].append(m)
    out: dict[int, Duplicate] = {}
    for group in alike.values():
        if len(group) < 2:
            continue
        exact: dict[bytes, Duplicate] = {}
        kept: dict[bytes, list[tuple[int, Geometry]]] = defaultdict(list)
        for m in group:
            g = whole(scene.meshes[m].parts)
            same = _digest(g.positions, g.triangles, g.uvs)
            if same in exact:
                out[m] = exact[same]
                continue
            # Which corners belong together, without the sense in which they go round: mirroring
            # turns it.
            key = _digest(np.sort(g.triangles, axis=1), g.uvs)
            first = next((k for k, other in kept[key] if fitted(other, g) is not None), None)
            if first is None:
                exact[same] = Duplicate(m, False)
                kept[key].append((m, g))
            else:
                out[m] = exact[same] = Duplicate(first, True)
    return out


def _digest(*arrays: NDArray[Any] | None) -> bytes:
    digest = hashlib.blake2b(digest_size=16)
    for array in arrays:
        if array is not None:
            digest.update(np.ascontiguousarray(array).data)
    return digest.digest()


def fitted(a: Geometry, b: Geometry) -> F64 | None:
    """The affine map (3, 4) that carries mesh a onto mesh b, of the same triangles; None where
    there is none.
    """
    p, q = a.positions.astype(np.float64), b.positions.astype(np.float64)
    middle, goal = p.mean(0), q.mean(0)
    size_p, size_q = (float(np.abs(x - x.mean(0)).max()) for x in (p, q))
    if size_p <= 0 or size_q <= 0:
        return None
    x, y = (p - middle) / size_p, (q - goal) / size_q
    squares = x.T @ x
    flat = float(np.linalg.eigvalsh(squares)[0]) < 1e-9 * float(np.trace(squares))
    left, right = (
        (x, y) if not flat else (np.concatenate([x, a.normals]), np.concatenate([y, b.normals]))
    )
    linear, _, rank, _ = np.linalg.lstsq(left, right, rcond=1e-9)
    if rank < 3:
        return None
    reach = size_q + float(np.abs(goal).max()) + size_q / size_p * float(np.abs(middle).max())
    if float(np.abs(x @ linear - y).max()) * size_q > NEAR * reach + 1e-12:
        return None
    matrix = linear.T * (size_q / size_p)
    turn = float(np.linalg.det(matrix))
    if abs(turn) < 1e-30:
        return None
    # A mirrored mesh goes round its triangles the other way.
    goes_round = _same_sense(a.triangles, b.triangles)
    if goes_round is None or goes_round != (turn > 0):
        return None
    carried = a.normals.astype(np.float64) @ np.linalg.inv(matrix)
    carried /= np.maximum(np.linalg.norm(carried, axis=1, keepdims=True), 1e-30)
    if float(np.abs(carried - b.normals).max()) > NORMALS:
        return None
    return np.concatenate([matrix, (goal - matrix @ middle)[:, None]], 1)


def _same_sense(a: NDArray[np.uint32], b: NDArray[np.uint32]) -> bool | None:
    """Whether all triangles go round alike, or all the other way (False); None where they do not
    agree.
    """
    a, b = (np.take_along_axis(t, (np.argmin(t, 1)[:, None] + np.arange(3)) % 3, 1) for t in (a, b))
    if (a == b).all():
        return True
    return False if (a == b[:, [0, 2, 1]]).all() else None
