"""Fewer triangles for a mesh, with all that its vertices carry.

Edges are collapsed by the package `fast-simplification` in the order of quadric error (Garland and
Heckbert, "Surface Simplification Using Quadric Error Metrics", 1997).  Vertices count as one only
where they have the same place, the same place on the textures and the same colour, so that seams,
open borders and borders between materials are borders to it, which stay where they are.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.meshes.soup import face_normals, flat_geometry, unit_rows
from mill_lane.core.scene.model import F32, Geometry
from mill_lane.core.trim.closest import Tree, closest, closest_within, tree_of

Ints = NDArray[np.int64]
NORMAL_STEP = 64  # normals that agree to a 64th are one: exporters round them
FACETED = 0.9  # of the triangles whose corners have the triangle's own normal, in a faceted mesh
MOSTLY = 0.5  # of the vertices on borders, from where on normals are asked about
# How fast the package lets its error grow from round to round: slowly it keeps to the order of the
# errors (measured, 0.6 to 1 times the error of its usual 7); at 3 it stops before all is done.
HASTE = 5.0
_one_at_a_time = threading.Lock()  # the package keeps the mesh in one place for all
ASTRAY = 1e-5  # of the size: how far off a vertex may lie before it is looked for elsewhere


@dataclass(frozen=True, eq=False)
class Joined:
    """The parts of a mesh as one list of triangles over vertices that are one where they agree.

    positions : float64 (V, 3).  triangles : int64 (T, 3).  index : for each part, which of the
    vertices each of its own is.  faceted : whether each triangle has its own normal.  locked : bool
    (V,), on a border.
    """

    positions: NDArray[np.float64]
    triangles: Ints
    index: list[Ints]
    faceted: bool
    locked: NDArray[np.bool_]


def joined(parts: Sequence[Geometry]) -> Joined:
    """Put the parts of a mesh together; triangles without area or with a corner twice go.

    Where most vertices would lie on borders since each triangle has normals of its own, normals do
    not count.
    """
    smooth = _joined(parts, faceted=False)
    if smooth.locked.mean() > MOSTLY and np.mean([_is_faceted(g) for g in parts]) > 0.5:
        return _joined(parts, faceted=True)
    return smooth


def _joined(parts: Sequence[Geometry], faceted: bool) -> Joined:
    positions, triangles, indices = [], [], []
    start = 0
    for g in parts:
        first, index = _welded(g, faceted)
        indices.append(index + start)
        positions.append(g.positions[first].astype(np.float64))
        triangles.append(indices[-1][g.triangles.astype(np.int64)])
        start += len(first)
    every = np.concatenate(triangles)
    solid = (every[:, 0] != every[:, 1]) & (every[:, 1] != every[:, 2])
    every = every[solid & (every[:, 2] != every[:, 0])]
    # The same triangle twice is a border to nobody, and twice the work.
    every = every[np.sort(_first_of(np.sort(every, 1)))]
    return Joined(np.concatenate(positions), every, indices, faceted, on_borders(every, start))


def _is_faceted(g: Geometry) -> bool:
    """Whether the corners of nearly every triangle have the triangle's own normal."""
    flat = unit_rows(face_normals(g.positions, g.triangles))
    along = np.einsum("tcx,tx->tc", g.normals[g.triangles], flat)
    return bool(len(along)) and bool((np.abs(along) > 0.999).all(1).mean() > FACETED)


def _welded(g: Geometry, faceted: bool) -> tuple[Ints, Ints]:
    """The first of all vertices that agree (N,), and which of these each vertex is (V,)."""
    columns = [g.positions.view(np.uint32)]
    for values in (g.uvs, g.second_uvs, g.colors):
        if values is not None:
            columns.append(np.ascontiguousarray(values, np.float32).view(np.uint32))
    if not faceted:
        rounded = np.round(np.nan_to_num(g.normals) * NORMAL_STEP).astype(np.int32)
        columns.append(rounded.view(np.uint32))
    keys = _keys_of(np.concatenate(columns, 1))
    _, first, index = np.unique(keys, return_index=True, return_inverse=True)
    # In the order in which they stand in the mesh, which the library's result goes by.
    order = np.argsort(first)
    rank = np.empty_like(order)
    rank[order] = np.arange(len(order))
    return first[order], rank[index.reshape(-1)]


def _first_of(rows: Ints) -> Ints:
    """Where each different row of whole numbers (N, K) stands first."""
    found: Ints = np.unique(_keys_of(rows), return_index=True)[1]
    return found


def _keys_of(rows: NDArray[Any]) -> NDArray[np.uint64]:
    """A number for each row of whole numbers (N, K), the same for equal rows alone.

    64 bits mixed from all columns (Steele, Lea and Flood 2014, the finalizer of SplitMix): two of a
    hundred million different rows agree by chance once in 3,700 times.
    """
    key = np.zeros(len(rows), np.uint64)
    for column in rows.T:
        key += column.astype(np.uint64) + np.uint64(0x9E3779B97F4A7C15)
        key ^= key >> np.uint64(30)
        key *= np.uint64(0xBF58476D1CE4E5B9)
        key ^= key >> np.uint64(27)
        key *= np.uint64(0x94D049BB133111EB)
        key ^= key >> np.uint64(31)
    return key


def on_borders(triangles: Ints, vertices: int) -> NDArray[np.bool_]:
    """Which vertices have an edge that only one triangle has."""
    out = np.zeros(vertices, bool)
    if not len(triangles):
        return out
    edges = np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), 1)
    keys, counts = np.unique(edges[:, 0] * vertices + edges[:, 1], return_counts=True)
    single = keys[counts == 1]
    out[single // vertices] = True
    out[single % vertices] = True
    return out


@dataclass(frozen=True, eq=False)
class Collapsed:
    """A joined mesh after collapsing edges.

    positions : float64 (V', 3), those on borders where they were, to the bit.  triangles : int64
    (T', 3).  became : int64 (V,), which of the new vertices each became; -1 where nothing is left.
    """

    positions: NDArray[np.float64]
    triangles: Ints
    became: Ints

    def bare(self) -> Geometry:
        """What is left, without anything that vertices carry."""
        at = np.ascontiguousarray(self.positions, np.float32)
        return Geometry(at, np.zeros_like(at), None, self.triangles.astype(np.uint32))


def collapse(mesh: Joined, triangles: int) -> Collapsed:
    """Collapse edges until at most so many triangles are left, or no edge can go."""
    import fast_simplification

    if not len(mesh.triangles):
        none = np.full(len(mesh.positions), -1)
        return Collapsed(np.zeros((0, 3)), np.zeros((0, 3), np.int64), none)
    low = mesh.positions.min(0)
    size = max(float((mesh.positions.max(0) - low).max()), 1e-300)
    # The library's thresholds are for a mesh about as large as 1.
    scaled = (mesh.positions - low) / size
    corners = mesh.triangles.astype(np.int32)
    # A disc with b vertices on its border has at least b - 2 triangles (Euler): asking for fewer
    # has the package go round in vain.
    target = min(max(triangles, int(mesh.locked.sum()), 1), len(corners))
    with _one_at_a_time:
        points, faces, collapses = fast_simplification.simplify(
            scaled,
            corners,
            target_count=target,
            agg=HASTE,
            return_collapses=True,
            preserve_border=True,
        )
    into = _followed(np.asarray(collapses, np.int64).reshape(-1, 2), len(mesh.positions))
    # What is left keeps its order; vertices that no triangle uses any more are not handed back.
    moved = into[mesh.triangles]
    left = moved[(moved[:, 0] != moved[:, 1]) & (moved[:, 1] != moved[:, 2])]
    left = left[left[:, 2] != left[:, 0]]
    number = np.full(len(into), -1)
    used = np.zeros(len(into), bool)
    used[left] = True
    number[used] = np.arange(int(used.sum()))
    faces = np.asarray(faces, np.int64)
    if len(points) != used.sum() or not np.array_equal(number[left], faces):
        raise MillError(
            "Collapsing edges gave triangles that belong to no vertex of the mesh.",
            "Leave this mesh as it is.",
        )
    positions = np.asarray(points, np.float64) * size + low
    still = np.flatnonzero(mesh.locked & used & (into == np.arange(len(into))))
    positions[number[still]] = mesh.positions[still]
    return Collapsed(positions, faces, number[into])


def _followed(collapses: Ints, vertices: int) -> Ints:
    """Which vertex each came to be, over all collapses (into, from)."""
    into = np.arange(vertices)
    if len(collapses):
        into[collapses[:, 1]] = collapses[:, 0]
    while True:
        further = into[into]
        if np.array_equal(further, into):
            return into
        into = further


def thinned(parts: Sequence[Geometry], mesh: Joined, triangles: int) -> list[Geometry]:
    """The parts of a mesh with fewer triangles: see `collapse` and `dressed`."""
    return dressed(parts, mesh, collapse(mesh, triangles))


def dressed(
    parts: Sequence[Geometry], mesh: Joined, left: Collapsed, tree: Tree | None = None
) -> list[Geometry]:
    """The parts of a mesh after collapsing edges, with all that their vertices carry.

    Parameters
    ----------
    parts : sequence of Geometry
    mesh : Joined
        The same, put together.
    left : Collapsed
        What became of it.
    tree : Tree, optional
        Of a mesh that has but one part, where it is known.

    Returns
    -------
    list of Geometry
        One for each part; a part of which nothing is left has no triangle.

    Notes
    -----
    What a vertex carries is read off the old surface at the closest point among the triangles that
    were collapsed into it, so that it never comes from across a seam.
    """
    positions, faces, became = left.positions, left.triangles, left.became
    owner = np.full(len(positions), -1)
    out = []
    for k, g in enumerate(parts):
        to_new = became[mesh.index[k]]
        owner[to_new[to_new >= 0]] = k
        own = np.flatnonzero(owner == k)
        number = np.full(len(positions) + 1, -1)
        number[own] = np.arange(len(own))
        kept = number[faces[owner[faces[:, 0]] == k]] if len(own) else np.zeros((0, 3), np.int64)
        known = tree if len(parts) == 1 else None
        made = _dressed(g, number[to_new], positions[own], kept, known)
        out.append(_facets(made) if mesh.faceted else made)
    return out


def _dressed(
    g: Geometry, became: Ints, positions: NDArray[np.float64], faces: Ints, tree: Tree | None
) -> Geometry:
    """New vertices (N, 3) with what the old ones carried that `became` them."""
    corners = g.positions[g.triangles].astype(np.float64)
    solid = (face_normals(g.positions, g.triangles) != 0).any(1)
    belongs = np.where(solid[:, None], became[g.triangles], -1)
    triangle, weights = closest_within(corners, belongs, positions)
    _look_elsewhere(g, corners, positions, triangle, weights, tree)

    def carried(values: F32 | None) -> F32 | None:
        if values is None:
            return None
        at = values[g.triangles[triangle]].astype(np.float64)
        return np.ascontiguousarray((at * weights[..., None]).sum(1), np.float32)

    normals = carried(g.normals)
    assert normals is not None
    return Geometry(
        np.ascontiguousarray(positions, np.float32),
        unit_rows(normals.astype(np.float64)),
        carried(g.uvs),
        np.ascontiguousarray(faces, np.uint32),
        carried(g.second_uvs),
        carried(g.colors),
    )


def _look_elsewhere(
    g: Geometry,
    corners: NDArray[np.float64],
    positions: NDArray[np.float64],
    triangle: Ints,
    weights: NDArray[np.float64],
    tree: Tree | None,
) -> None:
    """Find the place on the surface of vertices that lie beside all triangles they came from.

    In flat regions any place costs nothing, so that the package puts them anywhere.
    """
    if not len(positions):
        return
    there = (corners[np.maximum(triangle, 0)] * weights[..., None]).sum(1)
    off = np.linalg.norm(there - positions, axis=1)
    size = float(np.ptp(g.positions, 0).max())
    beside = (triangle < 0) | ((weights.min(1) <= 0) & (off > ASTRAY * size))
    rows = np.flatnonzero(beside)
    if not len(rows):
        return
    found = closest(tree or tree_of(g.positions, g.triangles), positions[rows])
    nearer = (found.distance < 0.5 * off[rows]) | (triangle[rows] < 0)
    triangle[rows[nearer]] = found.triangle[nearer]
    weights[rows[nearer]] = found.weights[nearer]


def _facets(g: Geometry) -> Geometry:
    """The same triangles sharing no vertex, each with its own normal."""
    corners = g.triangles.reshape(-1)

    def of(values: F32 | None) -> F32 | None:
        return None if values is None else np.ascontiguousarray(values[corners])

    flat = flat_geometry(g.positions, g.uvs, g.triangles)
    return replace(flat, second_uvs=of(g.second_uvs), colors=of(g.colors))
