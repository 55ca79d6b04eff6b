"""Whether surfaces enclose something: glass that does is solid, any other a thin pane."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from mill_lane.core.scene.model import Geometry, Material

SOLID = 1.0  # metres: any thickness will do where nothing is absorbed on the way


def is_closed(g: Geometry) -> bool:
    """Whether every edge belongs to two triangles; vertices at one place are one."""
    _, place = np.unique(g.positions, axis=0, return_inverse=True)
    corners = place.reshape(-1)[g.triangles.astype(np.int64)]
    corners = corners[
        (corners[:, 0] != corners[:, 1])
        & (corners[:, 1] != corners[:, 2])
        & (corners[:, 2] != corners[:, 0])
    ]
    if not len(corners):
        return False
    edges = np.sort(np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]]), 1)
    _, counts = np.unique(edges, axis=0, return_counts=True)
    return bool((counts == 2).all())


def solid_glass(materials: list[Material], worn: Iterable[tuple[int, Geometry]]) -> list[Material]:
    """Materials with those of clear things solid that enclose something wherever they are worn.

    `worn` has each geometry with the number of its material.
    """
    solid: dict[int, bool] = {}
    for number, g in worn:
        if number >= 0 and materials[number].transmission > 0 and solid.get(number, True):
            solid[number] = is_closed(g)
    return [replace(m, thickness=SOLID) if solid.get(i) else m for i, m in enumerate(materials)]
