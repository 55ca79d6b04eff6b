"""How far a thinned mesh lies from what it was: sampled both ways.

After Cignoni, Rocchini and Scopigno, "Metro: Measuring Error on Simplified Surfaces", 1998.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.model import Geometry
from mill_lane.core.trim.closest import Closest, Tree, closest, tree_of

F64 = NDArray[np.float64]
SAMPLES = 5000  # points on either surface, and as many corners
USUAL_SEED = 1998


@dataclass(frozen=True)
class Deviation:
    """Distances between two surfaces, in the unit of their vertices.

    most : the sampled Hausdorff distance, the larger of both ways.  mean : root mean square of
    both ways.  turned : degrees by which shading normals differ, the median: where surfaces touch,
    the closest point of the other may be on the wrong one.
    """

    most: float
    mean: float
    turned: float


@dataclass(frozen=True, eq=False)
class Samples:
    """Points on a surface (N, 3), and the shading normals there."""

    points: F64
    normals: F64


def samples_of(g: Geometry, count: int = SAMPLES, seed: int = USUAL_SEED) -> Samples:
    """Points spread evenly over the area of a mesh, and all of its vertices where they are few."""
    corners = g.positions[g.triangles].astype(np.float64)
    area = np.linalg.norm(
        np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1
    )
    rng = np.random.default_rng(seed)
    running = area.cumsum()
    if len(running) and running[-1] > 0:
        pick = np.searchsorted(
            running, (np.arange(count) + rng.random(count)) / count * running[-1]
        )
        pick = np.minimum(pick, len(running) - 1)
    else:
        pick = rng.integers(0, max(len(corners), 1), count)
    # A point of a triangle by two numbers (Turk, Graphics Gems, 1990).
    s, t = np.sqrt(rng.random(count)), rng.random(count)
    weights = np.stack([1 - s, s * (1 - t), s * t], 1)
    points = (corners[pick] * weights[..., None]).sum(1)
    normals = (g.normals[g.triangles[pick]].astype(np.float64) * weights[..., None]).sum(1)
    used = np.unique(g.triangles)
    if len(used) > count:  # corners stick out the farthest: some of them are asked in any case
        used = used[rng.integers(0, len(used), count)]
    return Samples(
        np.concatenate([points, g.positions[used].astype(np.float64)]),
        np.concatenate([normals, g.normals[used].astype(np.float64)]),
    )


@dataclass(frozen=True, eq=False)
class Reference:
    """A mesh that others are compared with: what comparing takes, worked out once."""

    mesh: Geometry
    tree: Tree
    samples: Samples
    count: int = SAMPLES


def coarser(reference: Reference, count: int) -> Reference:
    """The same reference, asked at fewer points: for looking about."""
    every = len(reference.samples.points)
    some = np.linspace(0, every - 1, min(count, every)).astype(int)
    points, normals = reference.samples.points[some], reference.samples.normals[some]
    return replace(reference, samples=Samples(points, normals), count=count // 2)


def reference_of(g: Geometry) -> Reference:
    """What comparing with a mesh of at least one triangle takes."""
    return Reference(g, tree_of(g.positions, g.triangles), samples_of(g))


def deviation(reference: Reference, other: Geometry) -> Deviation:
    """How far another mesh lies from the reference, and the reference from it."""
    tree = tree_of(other.positions, other.triangles)
    there = closest(tree, reference.samples.points)
    own = samples_of(other, reference.count)
    back = closest(reference.tree, own.points)
    distances = np.concatenate([there.distance, back.distance])
    turned = _turned(reference.samples.normals, _normals_at(other, there))
    return Deviation(
        float(distances.max()),
        float(np.sqrt((distances**2).mean())),
        float(np.degrees(np.median(turned))),
    )


def _normals_at(g: Geometry, found: Closest) -> F64:
    corners = g.normals[g.triangles[found.triangle]].astype(np.float64)
    return np.asarray((corners * found.weights[..., None]).sum(1))


def _turned(a: F64, b: Any) -> F64:
    """Angles between rows, radians."""
    lengths = np.linalg.norm(a, axis=1) * np.linalg.norm(b, axis=1)
    cosine = (a * b).sum(1) / np.maximum(lengths, 1e-30)
    return np.asarray(np.arccos(np.clip(cosine, -1.0, 1.0)))
