"""Parts of meshes made of arrays, and pieces of them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.model import F32, Geometry, Part


def part_of(geometry: Geometry, material: int) -> Part:
    """A part that holds its vertices itself."""
    low, high = geometry.positions.min(0), geometry.positions.max(0)
    return Part(
        material,
        len(geometry.positions),
        len(geometry.triangles),
        (float(low[0]), float(low[1]), float(low[2])),
        (float(high[0]), float(high[1]), float(high[2])),
        geometry.uvs is not None,
        lambda: geometry,
        has_second_uvs=geometry.second_uvs is not None,
        has_colors=geometry.colors is not None,
    )


def subset(g: Geometry, triangles: NDArray[Any]) -> Geometry:
    """Some triangles of a geometry, with only the vertices that they use."""
    used, inverse = np.unique(triangles, return_inverse=True)

    def of(values: F32 | None) -> F32 | None:
        return None if values is None else values[used]

    return Geometry(
        g.positions[used],
        g.normals[used],
        of(g.uvs),
        np.ascontiguousarray(inverse.reshape(-1, 3), np.uint32),
        of(g.second_uvs),
        of(g.colors),
    )
