"""One level of subdivision: where vertices go.

Catmull and Clark 1978; Loop 1987; creases and corners of DeRose, Kass and Truong 1998 (section 3),
sharpness lost evenly by one a level.
"""

from __future__ import annotations

import numpy as np

from mill_lane.core.subdivision.topology import F64, Ints, Topology, softer, summed

SMOOTH, CREASE, CORNER = 0, 1, 2


def rules(t: Topology, sharp: F64, pinned: F64) -> Ints:
    """How each vertex moves, by the number of sharp edges that meet there.

    One alone ends in the surface (a dart), which is smooth; two run through; more hold it.
    """
    met = np.bincount(t.edges.ravel(), np.repeat(sharp > 0, 2), t.vertices)
    return np.where((pinned > 0) | (met > 2), CORNER, np.where(met == 2, CREASE, SMOOTH))


def catmull_clark(t: Topology, values: F64) -> F64:
    """Values (V, K) one level on: of vertices, of edges, of polygons."""
    faces = summed(t.face, values[t.corners], len(t.counts)) / t.counts[:, None]
    beside = faces[t.face]
    middles = _between(t, values)
    edges = _blended(t, middles, middles / 2 + summed(t.edge, beside, len(t.edges)) / 4)
    n = np.maximum(t.valence, 1)[:, None]
    around = neighbours(t, values) + summed(t.corners, beside, t.vertices)
    smooth = ((n - 2) * values + around / n) / n
    return np.concatenate([_moved(t, values, smooth), edges, faces])


def loop(t: Topology, values: F64) -> F64:
    """Values (V, K) one level on: of vertices, of edges."""
    opposite = values[t.corners[t.previous]]
    middles = _between(t, values)
    edges = _blended(t, middles, middles * 0.75 + summed(t.edge, opposite, len(t.edges)) / 8)
    beta = loop_weight(t.valence)[:, None]
    n = t.valence[:, None]
    smooth = (1 - n * beta) * values + beta * neighbours(t, values)
    return np.concatenate([_moved(t, values, smooth), edges])


def linear(t: Topology, values: F64, faces: bool) -> F64:
    """Values (V, K) one level on, halfway between their neighbours; of polygons where asked."""
    out = [values, _between(t, values)]
    if faces:
        out.append(summed(t.face, values[t.corners], len(t.counts)) / t.counts[:, None])
    return np.concatenate(out)


def loop_weight(valence: Ints) -> F64:
    """The weight of each neighbour of a vertex in Loop's scheme, by how many there are."""
    n = np.maximum(valence, 1)
    return np.asarray((5 / 8 - (3 / 8 + np.cos(2 * np.pi / n) / 4) ** 2) / n)


def neighbours(t: Topology, values: F64, edges: Ints | None = None) -> F64:
    """The sum of the values at the other ends of a vertex's edges, or of some of them."""
    ends = t.edges if edges is None else t.edges[edges]
    return summed(ends[:, 0], values[ends[:, 1]], t.vertices) + summed(
        ends[:, 1], values[ends[:, 0]], t.vertices
    )


def _between(t: Topology, values: F64) -> F64:
    return np.asarray((values[t.edges[:, 0]] + values[t.edges[:, 1]]) / 2)


def _blended(t: Topology, middles: F64, smooth: F64) -> F64:
    share = np.minimum(t.sharp, 1.0)[:, None]
    return np.asarray(share * middles + (1 - share) * smooth)


def _moved(t: Topology, values: F64, smooth: F64) -> F64:
    """Vertices by their rule; where that changes on the way to the next level, between both."""
    after, still = softer(t.sharp), softer(t.pinned)
    now, then = rules(t, t.sharp, t.pinned), rules(t, after, still)
    out = _by(t, now, t.sharp, values, smooth)
    between = now != then
    if between.any():
        fading, going = (t.sharp > 0) & (after == 0), (t.pinned > 0) & (still == 0)
        ends = t.edges.ravel()
        number = np.bincount(ends, np.repeat(fading, 2), t.vertices) + going
        total = np.bincount(ends, np.repeat(np.where(fading, t.sharp, 0), 2), t.vertices)
        total += np.where(going, t.pinned, 0)
        share = np.minimum(total / np.maximum(number, 1), 1.0)[between, None]
        later = _by(t, then, after, values, smooth)[between]
        out[between] = share * out[between] + (1 - share) * later
    return out


def _by(t: Topology, rule: Ints, sharp: F64, values: F64, smooth: F64) -> F64:
    out = np.where((rule == SMOOTH)[:, None], smooth, values)
    crease = rule == CREASE
    if crease.any():
        along = neighbours(t, values, np.flatnonzero(sharp > 0))
        out[crease] = (6 * values[crease] + along[crease]) / 8
    return np.asarray(out)
