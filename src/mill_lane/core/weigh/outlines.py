"""The scene from above: where each placed object stands on the floor."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict


class ObjectOutline(BaseModel):
    """A placed object from above:

    the outline of its box in x and z, and what its mesh holds in memory.
    """

    model_config = ConfigDict(frozen=True)

    name: str
    mesh: int
    points: list[tuple[float, float]]
    low: float
    high: float
    memory_bytes: int
    object: int = 0  # which of the scene's instances
    seen: str = ""  # how it matters, once that is known
    share: float = 0.0  # of the picture, at most


def outline_of(
    name: str,
    mesh: int,
    matrix: NDArray[np.float64],
    lo: NDArray[np.float64],
    hi: NDArray[np.float64],
    memory: int,
) -> ObjectOutline:
    """Draw the outline, from above, of a placed box.

    Parameters
    ----------
    name : str
    mesh : int
        Index of the mesh.
    matrix : array of float64, (4, 4)
    lo, hi : array of float64, (3,)
        The box before it is placed.
    memory : int
        Bytes that the mesh holds.
    """
    corners = np.array(
        [[x, y, z] for x in (lo[0], hi[0]) for y in (lo[1], hi[1]) for z in (lo[2], hi[2])]
    )
    world = corners @ matrix[:3, :3].T + matrix[:3, 3]
    outline = hull(world[:, [0, 2]])
    return ObjectOutline(
        name=name,
        mesh=mesh,
        points=[(round(float(x), 4), round(float(z), 4)) for x, z in outline],
        low=float(world[:, 1].min()),
        high=float(world[:, 1].max()),
        memory_bytes=memory,
    )


def hull(points: NDArray[np.float64]) -> list[tuple[float, float]]:
    """Find the convex hull of points in the plane.

    Parameters
    ----------
    points : array of float64, (N, 2)

    Returns
    -------
    list of (x, y)
        Counter-clockwise; the two ends where all points lie on a line, one where they are all the
        same.
    """
    unique = np.unique(points, axis=0)
    corners = _chain(unique)
    if len(corners) < 3:  # nothing that has an area
        corners = unique[[0, -1]] if len(unique) > 1 else unique
    return [(float(x), float(y)) for x, y in corners]


def _chain(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """The corners of the convex hull of a few points (N, 2), counter-clockwise.

    Andrew's monotone chain (1979): the points are few, and a library for more takes long to load.
    """
    order = points[np.lexsort((points[:, 1], points[:, 0]))]
    chains = []
    for run in (order, order[::-1]):
        chain: list[NDArray[np.float64]] = []
        for p in run:
            while len(chain) > 1 and _turn(chain[-2], chain[-1], p) <= 0:
                chain.pop()
            chain.append(p)
        chains.append(chain[:-1])
    return np.array([*chains[0], *chains[1]]).reshape(-1, 2)


def _turn(a: NDArray[np.float64], b: NDArray[np.float64], c: NDArray[np.float64]) -> float:
    """Twice the area of a triangle, above 0 where it goes round counter-clockwise."""
    return float((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]))
