"""What is made of an OBJ file's vertices once all are read, compiled with `obj_scan`."""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.compiled import compiler_of

compiled = compiler_of(__file__)


@compiled
def counts_up(rows: Any) -> bool:
    """Whether rows are 0, 1, 2, …"""
    r = 0
    while r < len(rows) and rows[r] == r:
        r += 1
    return r == len(rows)


@compiled
def share_normals(vertices: Any, made: Any, first: Any) -> None:
    """Sum the normals of all that stand at one vertex; `first` is -1 for every vertex, before and
    after.
    """
    for r in range(len(vertices)):
        v = vertices[r]
        if first[v] < 0:
            first[v] = r
        else:
            for x in range(3):
                made[first[v], x] += made[r, x]
    for r in range(len(vertices)):
        made[r] = made[first[vertices[r]]]
    for r in range(len(vertices)):
        first[vertices[r]] = -1


@compiled
def to_unit(rows: Any) -> None:
    """Make rows of length 1; (0, 1, 0) of those without any."""
    for r in range(len(rows)):
        x, y, z = float(rows[r, 0]), float(rows[r, 1]), float(rows[r, 2])
        length = np.sqrt(x * x + y * y + z * z)
        if length > 1e-30 and length < np.inf:
            rows[r, 0], rows[r, 1], rows[r, 2] = x / length, y / length, z / length
        else:
            rows[r, 0], rows[r, 1], rows[r, 2] = 0.0, 1.0, 0.0


@compiled
def lay(places: Any, named: Any, out: Any) -> None:
    """Places on the texture with V turned to run down; 0 where there is none, or no number."""
    for r in range(len(named)):
        u, v = 0.0, 1.0
        if named[r] >= 0:
            u, v = places[named[r], 0], 1.0 - places[named[r], 1]
        out[r, 0] = u if np.isfinite(u) else 0.0
        out[r, 1] = v if np.isfinite(v) else 0.0
