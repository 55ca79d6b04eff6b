"""Which polygons meet at which edges and vertices, and how one level is made of another."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
Ints = NDArray[np.int64]

INFINITE = 10.0  # sharpness from which on an edge or a vertex stays sharp at every level (UsdGeom)


@dataclass(frozen=True, eq=False)
class Topology:
    """Polygons over vertices.

    A corner is a place in the list of polygons, and at the same time the half of an edge that runs
    from there to the next corner of its polygon.

    starts : int64 (F + 1,), where each polygon begins in `corners`, and their number.  corners :
    int64 (C,), the vertex of each.  edge : int64 (C,), the edge of each.  edges : int64 (E, 2).
    sharp : float64 (E,), `INFINITE` for what is no edge between two polygons that run the same way
    round.  pinned : float64 (V,), the same of vertices.
    """

    vertices: int
    starts: Ints
    corners: Ints
    edge: Ints
    edges: Ints
    sharp: F64
    pinned: F64

    @cached_property
    def counts(self) -> Ints:
        """Corners of each polygon."""
        return np.diff(self.starts)

    @cached_property
    def face(self) -> Ints:
        """The polygon of each corner."""
        return np.repeat(np.arange(len(self.counts)), self.counts)

    @cached_property
    def next(self) -> Ints:
        """The corner that follows each in its polygon."""
        out = np.arange(1, len(self.corners) + 1)
        out[self.starts[1:] - 1] = self.starts[:-1]
        return out

    @cached_property
    def previous(self) -> Ints:
        """The corner that each follows in its polygon."""
        out = np.empty(len(self.corners), np.int64)
        out[self.next] = np.arange(len(self.corners))
        return out

    @cached_property
    def valence(self) -> Ints:
        """Edges that meet at each vertex."""
        return np.bincount(self.edges.ravel(), minlength=self.vertices)

    @cached_property
    def twin(self) -> Ints:
        """The corner on the other side of each edge; -1 where that is sharp at every level."""
        out = np.full(len(self.corners), -1, np.int64)
        halves = np.flatnonzero(self.sharp[self.edge] < INFINITE)
        pairs = halves[np.argsort(self.edge[halves], kind="stable")].reshape(-1, 2)
        out[pairs[:, 0]], out[pairs[:, 1]] = pairs[:, 1], pairs[:, 0]
        return out


def topology_of(
    counts: Ints,
    corners: Ints,
    vertices: int,
    sharp: tuple[Ints, F64] | None = None,
    pinned: F64 | None = None,
) -> Topology:
    """Find the edges of polygons.

    Parameters
    ----------
    counts : int64 array (F,)
        Corners of each polygon.
    corners : int64 array (C,)
        Their vertices, one polygon after another.
    vertices : int
    sharp : (int64 array (K, 2), float64 array (K,)), optional
        Pairs of vertices, and how sharp the edge between them is.
    pinned : float64 array (V,), optional
        How sharp each vertex is.
    """
    starts = np.concatenate([[0], np.cumsum(counts)])
    bare = Topology(vertices, starts, corners, corners, corners, np.zeros(0), np.zeros(0))
    ends = np.stack([corners, corners[bare.next]], 1)
    low, high = ends.min(1), ends.max(1)
    keys, edge = np.unique(low * vertices + high, return_inverse=True)
    edge = edge.reshape(-1)
    forward = np.where(ends[:, 0] == low, 1, -1)
    used = np.bincount(edge, minlength=len(keys))
    balance = np.bincount(edge, forward, len(keys))
    hardness = np.where((used == 2) & (balance == 0), 0.0, INFINITE)
    if sharp is not None:
        pairs, values = sharp
        wanted = pairs.min(1) * vertices + pairs.max(1)
        at = np.minimum(np.searchsorted(keys, wanted), len(keys) - 1)
        there = keys[at] == wanted
        np.maximum.at(hardness, at[there], np.clip(values[there], 0.0, INFINITE))
    return Topology(
        vertices,
        starts,
        corners,
        edge,
        np.stack([keys // vertices, keys % vertices], 1),
        hardness,
        np.zeros(vertices) if pinned is None else np.clip(pinned, 0.0, INFINITE),
    )


def softer(sharp: F64) -> F64:
    """Sharpness one level on."""
    return np.where(sharp >= INFINITE, sharp, np.maximum(sharp - 1.0, 0.0))


def in_four(t: Topology) -> Topology:
    """A quad for each corner: vertices stay, then come those of edges, then those of polygons."""
    v, e, c = t.vertices, len(t.edges), np.arange(len(t.corners))
    behind = t.previous
    halves = _halves(t)
    quads = np.stack([t.corners, v + t.edge, v + e + t.face, v + t.edge[behind]], 1)
    # Each edge in two, then an edge from the middle of each corner's edge into the polygon.
    edge = np.stack([halves, 2 * e + c, 2 * e + behind, _second_halves(t)], 1)
    inner = np.stack([v + t.edge, v + e + t.face], 1)
    return _next_level(t, quads, edge, inner, len(t.counts))


def in_triangles(t: Topology) -> Topology:
    """Four triangles for each: vertices stay, then come those of edges."""
    v, e = t.vertices, len(t.edges)
    c = np.arange(len(t.corners))
    behind = t.previous
    tips = np.stack([t.corners, v + t.edge, v + t.edge[behind]], 1)
    tip_edges = np.stack([_halves(t), 2 * e + c, _second_halves(t)], 1)
    first = t.starts[:-1]
    middles = np.stack([v + t.edge[first + k] for k in range(3)], 1)
    # The side of the middle triangle that cuts off corner k + 1.
    middle_edges = np.stack([2 * e + first + 1, 2 * e + first + 2, 2 * e + first], 1)
    inner = np.stack([v + t.edge, v + t.edge[behind]], 1)
    return _next_level(
        t, np.concatenate([tips, middles]), np.concatenate([tip_edges, middle_edges]), inner, 0
    )


def _halves(t: Topology) -> Ints:
    """The half of each corner's edge that touches the corner."""
    return np.asarray(2 * t.edge + (t.edges[t.edge, 0] != t.corners))


def _second_halves(t: Topology) -> Ints:
    """The half of the edge before each corner that touches the corner."""
    behind = t.edge[t.previous]
    return np.asarray(2 * behind + (t.edges[behind, 0] != t.corners))


def _next_level(t: Topology, faces: Ints, edge: Ints, inner: Ints, more: int) -> Topology:
    v, e = t.vertices, len(t.edges)
    middle = v + np.arange(e)
    outer = np.stack([t.edges[:, 0], middle, t.edges[:, 1], middle], 1).reshape(-1, 2)
    return Topology(
        v + e + more,
        np.arange(len(faces) + 1) * faces.shape[1],
        faces.reshape(-1),
        edge.reshape(-1),
        np.concatenate([outer, inner]),
        np.concatenate([np.repeat(softer(t.sharp), 2), np.zeros(len(inner))]),
        np.concatenate([softer(t.pinned), np.zeros(e + more)]),
    )


def summed(at: Ints, values: F64, count: int) -> F64:
    """The sum of the rows of `values` that belong to each of `count` things; `at` says to which."""
    from scipy import sparse  # as long to load as all else that reads a scene

    n = len(at)
    picks = sparse.csr_matrix((np.ones(n), at, np.arange(n + 1)), shape=(n, count))
    return np.asarray(picks.T @ values)
