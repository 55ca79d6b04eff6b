"""The affine map that carries one mesh onto another, if there is one.

Where the vertices stand in the same order it is fitted by least squares.  Where they do not, both
are brought to the same spread in all directions, so that only a rotation or a mirroring is left,
and that is found from the farthest corners: a few pairs, triples and their distances.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import permutations
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.model import Geometry

F64 = NDArray[np.float64]
# of the size and the distance from the origin: what float32 rounds away, and a few roundings more
NEAR = 2e-6
# Of the vertices, so many may lie a little farther off: what exporters round.
FEW, FARTHER = 0.01, 2e-4
NORMALS = 2e-2  # by which normals may differ, which exporters often keep in few bits
MANY_NORMALS = 0.95  # of the corners whose normals have to agree
MOST_UVS = 0.995  # of the corners that have to lie at the same place of the texture
UVS = 1e-4
ROUGHLY = 2e-3  # of the size: how far corners may lie off before the map is fitted to all
LOOK_FIRST, LOOKED_AT = 100, 1000  # triangles of another order that are compared
MOST_TURNS = 48  # of two meshes that are tried
WAYS = np.array(list(permutations(range(3))))  # in which corners may belong together
ANCHORS = 24  # corners at the same distance that are tried in the place of one


@dataclass(frozen=True, eq=False)
class Whitened:
    """Where the middle of points is, and the map (3, 3) after which they spread alike."""

    middle: F64
    matrix: F64
    flat: bool


def whitened(points: F64) -> Whitened | None:
    """Find the map after which the covariance of points (N, 3) is 1; None where they have no area.

    Flat ones stay flat.
    """
    middle = points.mean(0)
    x = points - middle
    values, vectors = np.linalg.eigh(x.T @ x / len(x))
    if values[1] <= 1e-12 * max(values[2], 1e-300) or values[2] <= 0:
        return None
    flat = bool(values[0] < 1e-9 * values[2])
    scale = 1 / np.sqrt(np.where([flat, False, False], np.inf, values))
    return Whitened(middle, np.asarray((vectors * scale) @ vectors.T), flat)


@dataclass(frozen=True, eq=False)
class View:
    """The corners of a mesh about its middle, (T, 3, 3), after a map that makes copies alike."""

    spread: Whitened
    corners: F64

    @cached_property
    def radii(self) -> F64:
        """How far each corner (3 T,) lies from the middle."""
        return np.asarray(np.linalg.norm(self.corners.reshape(-1, 3), axis=1))

    @cached_property
    def tree(self) -> Any:
        """The middles of the triangles, to be searched."""
        from scipy.spatial import cKDTree  # it takes a second to load

        return cKDTree(self.corners.mean(1))


@dataclass(frozen=True, eq=False)
class Shape:
    """A mesh with what comparing it takes, worked out once: see `shape_of`."""

    mesh: Geometry
    spread_alike: View | None  # None where it has no area

    @cached_property
    def of_one_size(self) -> View:
        """The mesh at a size of 1, its proportions kept: what was only turned and scaled."""
        assert self.spread_alike is not None
        spread = self.spread_alike.spread
        p = self.mesh.positions[self.mesh.triangles].astype(np.float64) - spread.middle
        k = 1 / float(np.sqrt((p**2).sum(2).mean()))
        return View(Whitened(spread.middle, np.eye(3) * k, spread.flat), p * k)


def shape_of(g: Geometry) -> Shape:
    """What comparing a mesh of at least one triangle with others takes."""
    p = g.positions[g.triangles].astype(np.float64)
    spread = whitened(p.reshape(-1, 3))
    if spread is None:
        return Shape(g, None)
    return Shape(g, View(spread, (p - spread.middle) @ spread.matrix.T))


def fitted(one: Geometry | Shape, other: Geometry | Shape) -> F64 | None:
    """Find the affine map that carries one mesh onto another.

    Parameters
    ----------
    one, other : Geometry or Shape
        Of the same number of triangles.

    Returns
    -------
    array of float64, (3, 4), or None
        None where there is none, or where normals, places on textures or the sides of triangles do
        not go along with it.
    """
    first, second = (x if isinstance(x, Shape) else shape_of(x) for x in (one, other))
    a, b = first.mesh, second.mesh
    if len(a.triangles) != len(b.triangles):
        return None
    if len(a.positions) == len(b.positions):
        sense = _same_sense(a.triangles, b.triangles)
        if sense is not None:
            return _in_order(a, b, sense)
    return _in_any_order(first, second)


def _in_order(a: Geometry, b: Geometry, goes_round: bool) -> F64 | None:
    """The map of meshes whose vertices stand in the same order."""
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
    if not _near(np.abs(x @ linear - y).max(1) * size_q, reach, size_q):
        return None
    matrix = linear.T * (size_q / size_p)
    turn = float(np.linalg.det(matrix))
    # A mirrored mesh goes round its triangles the other way.
    if abs(turn) < 1e-30 or goes_round != (turn > 0):
        return None
    if not _normals_agree(a.normals, b.normals, matrix) or not _uvs_agree(a.uvs, b.uvs):
        return None
    return np.concatenate([matrix, (goal - matrix @ middle)[:, None]], 1)


def _near(off: F64, reach: float, size: float) -> bool:
    """Whether distances (N,) are within rounding, but for a few that nobody can see."""
    within = NEAR * reach + 1e-12
    return bool(
        (off > within).mean() <= FEW and off.max(initial=0.0) <= max(within, FARTHER * size)
    )


def _normals_agree(a: NDArray[np.float32], b: NDArray[np.float32], matrix: F64) -> bool:
    carried = a.astype(np.float64) @ np.linalg.inv(matrix)
    carried /= np.maximum(np.linalg.norm(carried, axis=1, keepdims=True), 1e-30)
    return bool((np.abs(carried - b).max(1) <= NORMALS).mean() >= MANY_NORMALS)


def _uvs_agree(a: NDArray[np.float32] | None, b: NDArray[np.float32] | None) -> bool:
    if a is None or b is None:
        return a is b
    return bool((np.abs(a - b).max(1) <= UVS).mean() >= MOST_UVS)


def _same_sense(a: NDArray[np.uint32], b: NDArray[np.uint32]) -> bool | None:
    """Whether all triangles go round alike, or all the other way (False); None where they do not
    agree.
    """
    a, b = (np.take_along_axis(t, (np.argmin(t, 1)[:, None] + np.arange(3)) % 3, 1) for t in (a, b))
    if (a == b).all():
        return True
    return False if (a == b[:, [0, 2, 1]]).all() else None


def _in_any_order(one: Shape, other: Shape) -> F64 | None:
    """The map of meshes whose vertices stand in different orders."""
    if one.spread_alike is None or other.spread_alike is None:
        return None
    # Most copies were turned and scaled; few were stretched.
    found = _between(one.mesh, other.mesh, one.of_one_size, other.of_one_size)
    if found is None:
        found = _between(one.mesh, other.mesh, one.spread_alike, other.spread_alike)
    return found


def _between(a: Geometry, b: Geometry, first: View, second: View) -> F64 | None:
    if first.spread.flat != second.spread.flat:
        return None
    inner = np.linalg.pinv(second.spread.matrix)
    for turn in _turns(first, second, first.spread.flat):
        matrix = inner @ turn @ first.spread.matrix
        # A few triangles tell most wrong maps; the rest is looked at only where they agree.
        for count in (LOOK_FIRST, LOOKED_AT):
            found = _fit_along(a, b, first, second, turn, matrix, count)
            if found is None:
                break
        else:
            return found
    return None


def _fit_along(
    a: Geometry, b: Geometry, first: View, second: View, turn: F64, matrix: F64, count: int
) -> F64 | None:
    """The map near `matrix`, fitted to so many triangles that belong together; None where they do
    not.
    """
    which = np.arange(0, len(a.triangles), max(1, len(a.triangles) // count))
    _, there = second.tree.query(first.corners[which].mean(1) @ turn.T)
    p = a.positions[a.triangles[which]] - first.spread.middle
    q = b.positions[b.triangles[there]] - second.spread.middle
    pairs = _pairs(p @ matrix.T, q)
    if pairs is None:
        return None
    own, others = a.triangles[which], np.take_along_axis(b.triangles[there], pairs, 1)
    matched = np.take_along_axis(q, pairs[..., None], 1)
    # Fitted once more to all that belongs together: exact to the rounding of the vertices.
    left, right = p.reshape(-1, 3), matched.reshape(-1, 3)
    linear, _, _, _ = np.linalg.lstsq(left, right, rcond=1e-7)
    off = np.abs(left @ linear - right).max(1)
    size = float(np.abs(q).max())
    reach = size + float(np.abs(second.spread.middle).max())
    reach += size / float(np.abs(p).max()) * float(np.abs(first.spread.middle).max())
    matrix = linear.T
    if first.spread.flat:
        matrix = matrix + _across(a.normals[own[0, 0]], b.normals[others[0, 0]], matrix)
    if not _near(off, reach, size) or abs(float(np.linalg.det(matrix))) < 1e-30:
        return None
    if not _goes_along(a, b, own, others, _sides(p), _sides(matched), matrix, pairs):
        return None
    goal = second.spread.middle + right.mean(0) - matrix @ (first.spread.middle + left.mean(0))
    return np.concatenate([matrix, goal[:, None]], 1)


def _pairs(moved: F64, q: F64) -> NDArray[np.int64] | None:
    """Which corner of its triangle each corner comes to lie on, (N, 3); None where they do not."""
    apart = np.linalg.norm(moved[:, :, None] - q[:, None], axis=3)  # (N, own, other)
    ways = apart[:, [0, 1, 2], WAYS].max(2)  # (N, 6): the farthest corner of each
    best = ways.argmin(1)
    off = np.take_along_axis(ways, best[:, None], 1)
    close = off <= ROUGHLY * float(np.abs(q).max())
    return WAYS[best] if close.mean() >= 1 - FEW else None


def _sides(triangles: F64) -> F64:
    return np.asarray(
        np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    )


def _across(here: NDArray[np.float32], there: NDArray[np.float32], matrix: F64) -> F64:
    """What a map of flat meshes needs across them: normal to normal, as long as the map is wide."""
    values = np.linalg.svd(matrix, compute_uv=False)
    return np.asarray(np.outer(there, here) * float(np.sqrt(values[0] * max(values[1], 1e-300))))


def _goes_along(
    a: Geometry,
    b: Geometry,
    own: NDArray[np.uint32],
    others: NDArray[np.uint32],
    side_a: F64,
    side_b: F64,
    matrix: F64,
    pairs: NDArray[np.int64],
) -> bool:
    """Whether sides, normals and places on the texture of matched triangles agree."""
    # The sides of b's triangles as they go round there, not as their corners were matched.
    turned = np.where((pairs[:, 0] + 1) % 3 == pairs[:, 1], 1.0, -1.0)
    along = ((side_a @ np.linalg.inv(matrix)) * side_b * turned[:, None]).sum(1)
    if (along < 0).mean() > FEW:
        return False
    # Two corners of a triangle without area may stand for each other.
    solid = along != 0 if np.abs(along).max(initial=0.0) == 0 else along > 1e-6 * np.median(along)
    own, others = own[solid], others[solid]
    if not _normals_agree(a.normals[own.reshape(-1)], b.normals[others.reshape(-1)], matrix):
        return False
    if a.uvs is None or b.uvs is None:
        return a.uvs is b.uvs
    return _uvs_agree(a.uvs[own.reshape(-1)], b.uvs[others.reshape(-1)])


def _turns(one: View, other: View, flat: bool) -> Iterator[F64]:
    """Rotations and mirrorings (3, 3) that may carry the corners of one onto those of the other."""
    x, far = one.corners.reshape(-1, 3), one.radii
    first = int(far.argmax())
    # Anchors far from each other: the farthest corner, the one farthest from its line, and from the
    # plane of both.
    u = x[first] / far[first]
    second = int(np.linalg.norm(x - (x @ u)[:, None] * u, axis=1).argmax())
    normal = np.cross(u, x[second])
    normal /= max(float(np.linalg.norm(normal)), 1e-30)
    third = int(np.abs(x @ normal).argmax())
    chosen = [first, second] if flat else [first, second, third]
    anchors = x[chosen]
    tolerance = 1e-4 * far[first]
    pools = []
    for anchor in anchors:
        near = np.abs(other.radii - np.linalg.norm(anchor)) <= tolerance
        pool = other.corners.reshape(-1, 3)[near][:8192]
        _, each = np.unique(np.round(pool / (tolerance / 4)), axis=0, return_index=True)
        pools.append(pool[np.sort(each)])
    tried = 0
    for start in pools[0][:ANCHORS]:
        # All that stand to the first as the second does.
        gap = float(np.linalg.norm(anchors[1] - anchors[0]))
        seconds = pools[1][np.abs(np.linalg.norm(pools[1] - start, axis=1) - gap) <= 2 * tolerance]
        for then in seconds[:ANCHORS]:
            if tried > MOST_TURNS:
                return
            if flat:
                tried += 1
                yield _orthogonal(anchors, np.array([start, then]))
                continue
            gaps = [float(np.linalg.norm(anchors[2] - anchors[k])) for k in (0, 1)]
            off = [
                np.abs(np.linalg.norm(pools[2] - k, axis=1) - gap)
                for k, gap in zip((start, then), gaps, strict=True)
            ]
            for last in pools[2][(off[0] <= 2 * tolerance) & (off[1] <= 2 * tolerance)][:2]:
                tried += 1
                yield _orthogonal(anchors, np.array([start, then, last]))


def _orthogonal(a: F64, b: F64) -> F64:
    """The rotation or mirroring that carries rows of a onto rows of b best (Schoenemann 1966)."""
    u, _, v = np.linalg.svd(a.T @ b)
    return np.asarray((u @ v).T)
