"""Cages of subdivision surfaces for the tests."""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.subdivision.cage import Cage

QUADS = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
CORNERS = [[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]


def cage_of(points: Any, faces: Any, scheme: str = "catmullClark", **more: Any) -> Cage:
    """A cage of polygons with equally many corners, all of one part."""
    faces, points = np.asarray(faces), np.asarray(points, float)
    count, n = faces.shape
    at = np.arange(count * n).reshape(count, n)
    rest: dict[str, Any] = {
        "pairs": np.zeros((0, 2), np.int64),
        "sharp": np.zeros(0),
        "pinned": np.zeros(len(points)),
        "owner": np.zeros(count, np.int64),
        "cut": np.concatenate([at[:, [0, i, i + 1]] for i in range(1, n - 1)]),
    }
    return Cage(
        scheme,  # type: ignore[arg-type]
        points,
        np.full(count, n),
        faces.reshape(-1),
        **(rest | more),
    )


def grid(nx: int, ny: int, height: Any = lambda x, y: 0 * x) -> tuple[np.ndarray, np.ndarray]:
    """A sheet of nx by ny quads."""
    y, x = (a.ravel().astype(float) for a in np.mgrid[: ny + 1, : nx + 1])
    first = (np.arange(ny)[:, None] * (nx + 1) + np.arange(nx)).ravel()
    quads = np.stack([first, first + 1, first + nx + 2, first + nx + 1], 1)
    return np.stack([x, y, height(x, y)], 1), quads


def halves(quads: np.ndarray) -> np.ndarray:
    return np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])


def edges_of(faces: Any) -> np.ndarray:
    faces = np.asarray(faces)
    ends = np.stack([faces, np.roll(faces, -1, 1)], 2).reshape(-1, 2)
    return np.unique(np.sort(ends, 1), axis=0)
