"""A mesh of a stage as triangles, told apart by material."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.meshes.soup import (
    Ints,
    checked,
    damaged,
    fans,
    smooth_normals,
    unit_rows,
)
from mill_lane.core.scene.model import Geometry


def read_mesh(prim: Any, time: Any) -> tuple[Geometry | None, Ints]:
    """The triangles of a mesh, and for each the number of the polygon it came from; None for a mesh
    without any.
    """
    from pxr import UsdGeom

    mesh = UsdGeom.Mesh(prim)
    name = str(prim.GetPath())
    points = _array(mesh.GetPointsAttr().Get(time), 3)
    counts: Ints = np.array(mesh.GetFaceVertexCountsAttr().Get(time) or [], np.int64)
    numbers: Ints = np.array(mesh.GetFaceVertexIndicesAttr().Get(time) or [], np.int64)
    if len(points) == 0 or len(numbers) == 0:
        return None, np.zeros(0, np.int64)
    if (counts < 0).any() or int(counts.sum()) != len(numbers):
        raise damaged(
            name, f"its faces have {int(counts.sum()):,} corners and {len(numbers):,} are given"
        )
    corner = fans(counts)  # positions in the list of corners
    owner = np.repeat(np.arange(len(counts)), np.maximum(counts - 2, 0))
    holes = np.array(mesh.GetHoleIndicesAttr().Get(time) or [], np.int64)
    if len(holes):
        keep = ~np.isin(owner, holes)
        corner, owner = corner[keep], owner[keep]
    if mesh.GetOrientationAttr().Get(time) == UsdGeom.Tokens.leftHanded:
        corner = corner[:, ::-1]
    checked(name, points, numbers[corner])
    if len(corner) == 0:
        return None, owner
    normals = _spread(
        _array(mesh.GetNormalsAttr().Get(time), 3), mesh.GetNormalsInterpolation(), counts, numbers
    )
    uvs = _places(prim, time, counts, numbers)
    subdivided = mesh.GetSubdivisionSchemeAttr().Get(time) not in (UsdGeom.Tokens.none, None)
    if normals is None:
        if subdivided:
            normals = smooth_normals(points, numbers[corner])[numbers].astype(np.float64)
        else:
            normals = _flat(points, numbers, corner, owner, counts)
    key = (
        np.concatenate([numbers[:, None], normals.view(np.int64), uvs.view(np.int64)], 1)
        if uvs is not None
        else None
    )
    if key is None:
        key = np.concatenate([numbers[:, None], normals.view(np.int64)], 1)
    first, inverse = _alike(key)
    geometry = Geometry(
        np.ascontiguousarray(points[numbers[first]], np.float32),
        unit_rows(normals[first]),
        None if uvs is None else np.ascontiguousarray(uvs[first], np.float32),
        np.ascontiguousarray(inverse[corner], np.uint32),
    )
    return geometry, owner


def part_of_faces(g: Geometry, owner: Ints, faces: Ints | None) -> Geometry | None:
    """The triangles of some polygons, with only the vertices that they use."""
    triangles = g.triangles if faces is None else g.triangles[np.isin(owner, faces)]
    if len(triangles) == 0:
        return None
    used, inverse = np.unique(triangles, return_inverse=True)
    return Geometry(
        g.positions[used],
        g.normals[used],
        None if g.uvs is None else g.uvs[used],
        np.ascontiguousarray(inverse.reshape(-1, 3), np.uint32),
    )


def _array(values: Any, width: int) -> NDArray[np.float64]:
    return np.ascontiguousarray(
        np.array(values if values is not None else [], np.float64).reshape(-1, width)
    )


def _spread(
    values: NDArray[np.float64], how: str, counts: Ints, numbers: Ints
) -> NDArray[np.float64] | None:
    """A value for every corner from values by vertex, face or corner; None where their number does
    not fit.
    """
    if how in ("vertex", "varying") and len(values) and numbers.max() < len(values):
        return np.ascontiguousarray(values[numbers])
    if how == "faceVarying" and len(values) == len(numbers):
        return values
    if how == "uniform" and len(values) == len(counts):
        return np.ascontiguousarray(np.repeat(values, counts, 0))
    if how == "constant" and len(values) == 1:
        return np.ascontiguousarray(np.repeat(values, len(numbers), 0))
    return None


def _places(prim: Any, time: Any, counts: Ints, numbers: Ints) -> NDArray[np.float64] | None:
    """The first set of places on a texture, V turned to run down:

    "st" where there is one of that name.
    """
    from pxr import UsdGeom

    found = [
        p
        for p in UsdGeom.PrimvarsAPI(prim).GetPrimvarsWithValues()
        if str(p.GetTypeName()) in ("texCoord2f[]", "float2[]")
    ]
    found.sort(key=lambda p: (p.GetPrimvarName() not in ("st", "UVMap"), p.GetPrimvarName()))
    for p in found:
        uvs = _spread(_array(p.ComputeFlattened(time), 2), p.GetInterpolation(), counts, numbers)
        if uvs is not None:
            out = np.stack([uvs[:, 0], 1.0 - uvs[:, 1]], 1)
            out[~np.isfinite(out)] = 0.0
            return np.ascontiguousarray(out)
    return None


def _flat(
    points: NDArray[Any], numbers: Ints, corner: Ints, owner: Ints, counts: Ints
) -> NDArray[np.float64]:
    p = points[numbers[corner]]
    n = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    whole = np.stack([np.bincount(owner, n[:, k], len(counts)) for k in range(3)], 1)
    return np.ascontiguousarray(np.repeat(whole, counts, 0))


def _alike(key: Ints) -> tuple[Ints, Ints]:
    """The first row of each kind of row, and the kind of every row; rows are compared as bytes."""
    rows = (
        np.ascontiguousarray(key)
        .view(np.dtype((np.void, key.dtype.itemsize * key.shape[1])))
        .reshape(-1)
    )
    _, first, inverse = np.unique(rows, return_index=True, return_inverse=True)
    return first, inverse.reshape(-1)
