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
    outline: list[tuple[float, float]]
    low: float
    high: float
    memory_bytes: int
    object: int = 0  # which of the scene's instances
    seen: str = ""  # how it matters, once that is known
    share: float = 0.0  # of the picture, at most


def footprint(
    name: str,
    mesh: int,
    matrix: NDArray[np.float64],
    lo: NDArray[np.float64],
    hi: NDArray[np.float64],
    memory: int,
) -> ObjectOutline:
    """The outline from above of a box (lo, hi) placed by a 4x4 matrix."""
    corners = np.array(
        [[x, y, z] for x in (lo[0], hi[0]) for y in (lo[1], hi[1]) for z in (lo[2], hi[2])]
    )
    world = corners @ matrix[:3, :3].T + matrix[:3, 3]
    outline = hull(world[:, [0, 2]])
    return ObjectOutline(
        name=name,
        mesh=mesh,
        outline=[(round(float(x), 4), round(float(z), 4)) for x, z in outline],
        low=float(world[:, 1].min()),
        high=float(world[:, 1].max()),
        memory_bytes=memory,
    )


def hull(points: NDArray[np.float64]) -> list[tuple[float, float]]:
    """The convex hull of points (N, 2), counter-clockwise (Andrew's monotone chain)."""
    unique = sorted({(float(x), float(y)) for x, y in points})
    if len(unique) < 3:
        return unique

    def chain(ps: list[tuple[float, float]]) -> list[tuple[float, float]]:
        out: list[tuple[float, float]] = []
        for p in ps:
            while len(out) > 1 and _turn(out[-2], out[-1], p) <= 0:
                out.pop()
            out.append(p)
        return out[:-1]

    return chain(unique) + chain(unique[::-1])


def _turn(a: tuple[float, float], b: tuple[float, float], c: tuple[float, float]) -> float:
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])
