"""A cage as triangles on the surface, after so many levels."""

from __future__ import annotations

import numpy as np

from mill_lane.core.scene.model import F32, Geometry
from mill_lane.core.scene.subdivision import Size
from mill_lane.core.subdivision.cage import Cage, Spread
from mill_lane.core.subdivision.limit import limit_normals, limit_values, sectors
from mill_lane.core.subdivision.masks import catmull_clark, linear, loop
from mill_lane.core.subdivision.topology import (
    F64,
    INFINITE,
    Ints,
    Topology,
    in_four,
    in_triangles,
    topology_of,
)


def dice(cage: Cage, level: int) -> list[Geometry | None]:
    """Evaluate a surface.

    Parameters
    ----------
    cage : Cage
    level : int
        From 0, the vertices of the cage moved onto the surface.

    Returns
    -------
    list of (Geometry or None)
        A part each; None for one without polygons.  Vertices lie on the limit surface, normals are
        its own, values at corners go by their rules at seams; edges that stay sharp have two
        normals.
    """
    triangles = cage.scheme == "loop"
    t, points = cage.topology, np.concatenate([cage.points, *_as_vertex(cage)], 1)
    spreads = [x for x in (cage.uvs, cage.colors) if x is not None and x.seams != "vertex"]
    over = [(_seamed(cage, t, x), x.values) for x in spreads]
    # Limits are known where all polygons are alike: one level more, of which the cage's own
    # vertices are kept.
    steps = max(level, 0 if triangles else 1)
    owner, kept = cage.owner, np.arange(len(cage.corners))
    for k in range(steps):
        points = loop(t, points) if triangles else catmull_clark(t, points)
        over = [
            (_split(s, triangles), _stepped(s, v, x.seams, triangles))
            for (s, v), x in zip(over, spreads, strict=True)
        ]
        kept = 4 * kept if k >= level else kept
        owner = _handed_down(owner, t, triangles)
        t = _split(t, triangles)
    sector = sectors(t)
    normals = limit_normals(t, points[:, :3], triangles, sector)
    surface = limit_values(t, points, triangles)
    ends = [
        v if x.seams == "all" else limit_values(s, v, triangles)
        for (s, v), x in zip(over, spreads, strict=True)
    ]
    columns = [sector, *(s.corners for s, _ in over)]
    if level >= steps:
        kept = np.arange(len(t.corners))
        tri, whose = _triangles(t), np.repeat(owner, 1 if triangles else 2)
    else:
        tri = cage.cut
        whose = cage.owner[np.repeat(np.arange(len(cage.counts)), cage.counts)[cage.cut[:, 0]]]
    out: list[Geometry | None] = []
    for part in range(int(cage.owner.max(initial=-1)) + 1):
        own = kept[tri[whose == part]]
        if not len(own):
            out.append(None)
            continue
        corner, inverse = _alike(own.reshape(-1), columns)
        values = {
            id(x): e[s.corners[corner]] for x, e, (s, _) in zip(spreads, ends, over, strict=True)
        }
        place = surface[t.corners[corner]]
        out.append(
            Geometry(
                np.ascontiguousarray(place[:, :3], np.float32),
                np.ascontiguousarray(normals[sector[corner]], np.float32),
                _values(cage.uvs, values, place[:, 3:5]),
                np.ascontiguousarray(inverse.reshape(-1, 3), np.uint32),
                colors=_values(cage.colors, values, place[:, -4:]),
            )
        )
    return out


def sizes(cage: Cage, parts: int) -> list[Size]:
    """What each part of a cage holds, from which follows what it holds at any level."""
    t = cage.topology
    spreads = [x for x in (cage.uvs, cage.colors) if x is not None and x.seams != "vertex"]
    columns = [sectors(t), *(x.at for x in spreads)]
    behind = t.next
    out = []
    cut_owner = cage.owner[t.face[cage.cut[:, 0]]]
    for part in range(parts):
        own = np.flatnonzero(cage.owner[t.face] == part)
        if not len(own):
            out.append(Size(0, 0, 0, 0, 0))
            continue
        _, which = _alike(np.concatenate([own, behind[own]]), columns)
        vertices = int(which.max()) + 1
        a, b = which[: len(own)], which[len(own) :]
        # An edge that stays sharp is two, one on either side.
        side = np.where(t.twin[own] < 0, own + 1, 0)
        rows = np.stack([np.minimum(a, b), np.maximum(a, b), t.edge[own], side], 1)
        edges = len(np.unique(rows, axis=0))
        polygons = len(np.unique(t.face[own]))
        out.append(Size(vertices, edges, polygons, len(own), int((cut_owner == part).sum())))
    return out


def _as_vertex(cage: Cage) -> list[F64]:
    """Values that go the way of the positions, a row a vertex."""
    out = []
    for x in (cage.uvs, cage.colors):
        if x is not None and x.seams == "vertex":
            rows = np.zeros((len(cage.points), x.values.shape[1]))
            rows[cage.corners] = x.values[x.at]
            out.append(rows)
    return out


def _split(t: Topology, triangles: bool) -> Topology:
    return in_triangles(t) if triangles else in_four(t)


def _handed_down(owner: Ints, t: Topology, triangles: bool) -> Ints:
    return np.concatenate([owner[t.face], owner]) if triangles else owner[t.face]


def _stepped(t: Topology, values: F64, seams: str, triangles: bool) -> F64:
    if seams == "all":
        return linear(t, values, not triangles)
    return loop(t, values) if triangles else catmull_clark(t, values)


def _seamed(cage: Cage, t: Topology, x: Spread) -> Topology:
    """The polygons over the values at corners, with what is held at seams."""
    bare = topology_of(cage.counts, x.at, len(x.values))
    sharp = np.maximum(bare.sharp, 0.0)
    np.maximum.at(sharp, bare.edge, t.sharp[t.edge])
    pinned = np.zeros(len(x.values))
    pinned[x.at] = t.pinned[t.corners]
    of = np.zeros(len(x.values), np.int64)  # the vertex of each value
    of[x.at] = t.corners
    uses = np.bincount(bare.edge, minlength=len(bare.edges))
    seam = np.zeros(len(x.values), bool)
    seam[bare.edges[uses != 2].ravel()] = True
    faces = np.bincount(x.at, minlength=len(x.values))
    regions = np.bincount(of, minlength=t.vertices)
    held = np.zeros(len(x.values), bool)
    if x.seams == "boundaries":
        held = seam
    elif x.seams.startswith("corners"):
        alone = seam & (faces == 1)
        held = alone.copy()
        if x.seams != "cornersOnly":
            held |= seam & (regions[of] > 2)
        if x.seams == "cornersPlus2":
            beside = np.bincount(of, alone, t.vertices) > 0
            border = np.zeros(t.vertices, bool)
            border[t.edges[np.bincount(t.edge, minlength=len(t.edges)) == 1].ravel()] = True
            held |= seam & (beside[of] | ((regions[of] == 1) & ~border[of]))
    pinned[held] = INFINITE
    return Topology(bare.vertices, bare.starts, bare.corners, bare.edge, bare.edges, sharp, pinned)


def _triangles(t: Topology) -> Ints:
    """Corners of triangles: of each quad two, one after another."""
    if int(t.counts[0]) == 3:
        return np.arange(len(t.corners)).reshape(-1, 3)
    q = np.arange(len(t.corners)).reshape(-1, 4)
    return q[:, [0, 1, 2, 0, 2, 3]].reshape(-1, 3)


def _alike(corner: Ints, columns: list[Ints]) -> tuple[Ints, Ints]:
    """Of some corners the first of each kind, and the kind of each: those that agree in all
    columns.
    """
    key = columns[0][corner]
    for column in columns[1:]:
        _, key = np.unique(key * (int(column.max()) + 1) + column[corner], return_inverse=True)
        key = key.reshape(-1)
    _, first, inverse = np.unique(key, return_index=True, return_inverse=True)
    return corner[first], inverse.reshape(-1)


def _values(spread: Spread | None, own: dict[int, F64], along: F64) -> F32 | None:
    if spread is None:
        return None
    return np.ascontiguousarray(own.get(id(spread), along), np.float32)
