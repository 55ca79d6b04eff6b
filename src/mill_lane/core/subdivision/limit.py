"""Where vertices lie on the surface that all levels tend to, and its normals there.

Catmull-Clark: Halstead, Kass and DeRose 1993, Stam 1998.  Loop: Loop 1987, Hoppe et al. 1994.
Across creases and borders: by the eigenvectors of the same masks.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from mill_lane.core.subdivision.masks import CORNER, CREASE, SMOOTH, loop_weight, neighbours, rules
from mill_lane.core.subdivision.topology import F64, INFINITE, Ints, Topology, summed


def limit_values(t: Topology, values: F64, triangles: bool) -> F64:
    """Values (V, K) on the limit surface; polygons are quads, or triangles for Loop's scheme.

    Where an edge is still a little sharp, between those of the crease and those of the smooth
    surface.
    """
    n = t.valence[:, None]
    if triangles:
        weight = 1 / (3 / (8 * loop_weight(t.valence)[:, None]) + n)
        smooth = (1 - n * weight) * values + weight * neighbours(t, values)
    else:
        across = summed(t.corners, values[t.corners[t.next[t.next]]], t.vertices)
        total = n**2 * values + 4 * neighbours(t, values) + across
        smooth = total / np.maximum(n * (n + 5), 1)
    rule = rules(t, t.sharp, t.pinned)
    held = (6 * values * (rule == CORNER)[:, None]).astype(float)
    crease = rule == CREASE
    along = neighbours(t, values, np.flatnonzero(t.sharp > 0))
    held[crease] = 4 * values[crease] + along[crease]
    share = np.zeros(t.vertices)
    np.maximum.at(share, t.edges.ravel(), np.repeat(np.minimum(t.sharp, 1.0), 2))
    share = np.where(rule == SMOOTH, 0.0, np.maximum(share, np.minimum(t.pinned, 1.0)))
    return np.asarray(share[:, None] * held / 6 + (1 - share[:, None]) * smooth)


def sectors(t: Topology) -> Ints:
    """Which corners of a vertex share a normal: those with no edge between them that stays sharp.

    Returns int64 (C,), a number for each corner.
    """
    from scipy import sparse  # as long to load as all else that reads a scene
    from scipy.sparse import csgraph

    met = np.flatnonzero(t.twin[t.previous] >= 0)
    count = len(t.corners)
    graph = sparse.csr_matrix(
        (np.ones(len(met), np.int8), (met, t.twin[t.previous[met]])), shape=(count, count)
    )
    return np.asarray(csgraph.connected_components(graph, directed=False)[1], np.int64)


def limit_normals(t: Topology, points: F64, triangles: bool, sector: Ints) -> F64:
    """Unit normals of the limit surface, one for each of the sectors.

    Parameters
    ----------
    t : Topology
        Of quads, or of triangles for Loop's scheme.
    points : float64 array (V, 3)
        Of that level, not yet on the limit surface.
    triangles : bool
    sector : int64 array (C,)
        As `sectors` gives them.

    Returns
    -------
    float64 array (S, 3)
    """
    number = int(sector.max()) + 1
    faces = np.bincount(sector, minlength=number)
    corner = np.arange(len(t.corners))
    first = np.full(number, len(corner))
    np.minimum.at(first, sector, corner)
    begins = np.flatnonzero(t.twin < 0)  # nothing of the sector lies before these
    first[sector[begins]] = begins
    rule = rules(t, np.where(t.sharp >= INFINITE, t.sharp, 0), _lasting(t))[t.corners[first]]
    # Where one crease ends in the surface, its sector goes all the way round.
    opened = (t.twin[first] < 0) & (rule != SMOOTH)
    tangents = _Tangents(t, points, faces, first, triangles)
    one, two = np.zeros((number, 3)), np.zeros((number, 3))
    closed = np.flatnonzero(~opened)
    one[closed], two[closed] = tangents.closed(closed)
    crease = np.flatnonzero(opened & (rule != CORNER))
    one[crease], two[crease] = tangents.crease(crease)
    corners = np.flatnonzero(opened & (rule == CORNER))
    one[corners], two[corners] = tangents.corner(corners)
    out = np.cross(one, two)
    flat = np.cross(
        points[t.corners[t.next]] - points[t.corners],
        points[t.corners[t.previous]] - points[t.corners],
    )
    mean = summed(sector, flat, number)
    length = np.linalg.norm(out, axis=1, keepdims=True)
    size = np.linalg.norm(mean, axis=1, keepdims=True)
    out[corners] *= np.where((out * mean).sum(1) < 0, -1.0, 1.0)[corners, None]  # concave ones
    lost = length[:, 0] <= 1e-12 * size[:, 0]
    out = np.where(lost[:, None], mean / np.where(size > 0, size, 1), out / _whole(length))
    out[lost & (size[:, 0] == 0)] = (0.0, 1.0, 0.0)
    return np.asarray(out)


def _lasting(t: Topology) -> F64:
    return np.where(t.pinned >= INFINITE, t.pinned, 0.0)


def _whole(length: F64) -> F64:
    return np.where(length > 0, length, 1.0)


class _Tangents:
    """Two tangents of the limit surface at a sector, whose corners are walked counter-clockwise."""

    def __init__(self, t: Topology, points: F64, faces: Ints, first: Ints, triangles: bool) -> None:
        self.t, self.points, self.faces, self.first = t, points, faces, first
        self.triangles = triangles

    def _walk(self, which: Ints, each: Callable[[Ints, int, F64, F64], None]) -> Ints:
        """Call `each` with places in `which`, the number of the corner, the end of its edge, and
        the vertex across its polygon; returns the last corner of each.
        """
        t = self.t
        at = self.first[which].copy()
        last = at.copy()
        active = np.arange(len(which))
        i = 0
        while len(active):
            c = at[active]
            last[active] = c
            edge = self.points[t.corners[t.next[c]]]
            across = self.points[t.corners[t.next[t.next[c]]]]
            each(active, i, edge, across)
            i += 1
            active = active[self.faces[which[active]] > i]
            at[active] = t.twin[t.previous[at[active]]]
        return last

    def closed(self, which: Ints) -> tuple[F64, F64]:
        n = self.faces[which].astype(float)
        turn = 2 * np.pi / n
        # Halstead et al. 1993, equation 7: the weight of the edges beside that of the faces.
        c = np.cos(turn)
        weight = 1 + c + np.cos(turn / 2) * np.sqrt(2 * (9 + c))
        out = np.zeros((2, len(which), 3))

        def each(k: Ints, i: int, edge: F64, across: F64) -> None:
            for j, wave in enumerate((np.cos, np.sin)):
                here, after = wave(turn[k] * i)[:, None], wave(turn[k] * (i + 1))[:, None]
                if self.triangles:
                    out[j, k] += here * edge
                else:
                    out[j, k] += weight[k, None] * here * edge + (here + after) * across

        self._walk(which, each)
        return out[0], out[1]

    def crease(self, which: Ints) -> tuple[F64, F64]:
        """Along the crease, and into the sector: the left eigenvectors of what a level does there.

        With the weights sin(iθ) of the edges between, θ a share of π, those of polygons, of both
        ends and of the vertex follow from the masks; the largest eigenvalue is (1 + μ) / 4 for
        quads, and (3 + 2 cos θ) / 8 for triangles.
        """
        turn = np.pi / self.faces[which].astype(float)
        c, s = np.cos(turn), np.sin(turn)
        ratio = np.where(self.faces[which] > 1, (1 + c) / np.where(s > 1e-9, s, 1), 0)
        if self.triangles:
            faces = np.zeros(len(which))
            ends = (s - ratio) / (1 + 2 * c)
            own = (2 * c - 1) * ends - s
        else:
            mu = np.maximum((1 + c + np.sqrt((1 + c) * (9 + c))) / 4, 1e-9)
            faces = 1 / (4 * mu)
            ends = (s * (1 + 1 / mu) / 2 - ratio * (1 + 1 / (2 * mu))) / (2 * mu)
            own = (2 * mu - 2) * ends - s * (1 + 1 / mu) / 2
        start, first = np.zeros((len(which), 3)), np.zeros((len(which), 3))
        inward = np.zeros((len(which), 3))
        here = self.points[self.t.corners[self.first[which]]]

        def each(k: Ints, i: int, edge: F64, across: F64) -> None:
            wave, after = np.sin(turn[k] * i)[:, None], np.sin(turn[k] * (i + 1))[:, None]
            if i == 0:
                start[k], first[k] = edge, across
            else:
                inward[k] += wave * edge
            inward[k] += faces[k, None] * (wave + after) * across

        last = self._walk(which, each)
        end = self.points[self.t.corners[self.t.previous[last]]]
        inward += ends[:, None] * (start + end) + own[:, None] * here
        # A single polygon has no edge between.
        alone = self.faces[which] == 1
        lone = (start + end) / 2 if self.triangles else first
        inward[alone] = (lone - here)[alone]
        return start - end, inward

    def corner(self, which: Ints) -> tuple[F64, F64]:
        t = self.t
        start = np.zeros((len(which), 3))

        def each(k: Ints, i: int, edge: F64, across: F64) -> None:
            if i == 0:
                start[k] = edge

        last = self._walk(which, each)
        here = self.points[t.corners[self.first[which]]]
        return start - here, self.points[t.corners[t.previous[last]]] - here
