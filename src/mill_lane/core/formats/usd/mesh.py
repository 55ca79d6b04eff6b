"""A mesh of a stage as triangles, told apart by material."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.meshes.polygons import cut
from mill_lane.core.formats.meshes.soup import Ints, checked, damaged, smooth_normals, unit_rows
from mill_lane.core.scene.model import Geometry, Mesh, Part
from mill_lane.core.scene.parts import part_of, subset


def read_mesh(prim: Any, time: Any) -> tuple[Geometry | None, Ints]:
    """The triangles of a mesh, and for each the number of the polygon it came from; None for a mesh
    without any.
    """
    from pxr import UsdGeom

    mesh = UsdGeom.Mesh(prim)
    name = str(prim.GetPath())
    found = polygons_of(prim, time)
    if found is None:
        return None, np.zeros(0, np.int64)
    points, counts, numbers = found
    checked(name, points, numbers.reshape(-1, 1))
    corner = cut(counts, points[numbers])  # positions in the list of corners
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
        array_of(mesh.GetNormalsAttr().Get(time), 3),
        mesh.GetNormalsInterpolation(),
        counts,
        numbers,
    )
    uvs, _ = places(prim, time, counts, numbers)
    tints = colours(prim, time, counts, numbers)
    subdivided = mesh.GetSubdivisionSchemeAttr().Get(time) not in (UsdGeom.Tokens.none, None)
    if normals is None:
        if subdivided:
            normals = smooth_normals(points, numbers[corner])[numbers].astype(np.float64)
        else:
            normals = _flat(points, numbers, corner, owner, counts)
    apart = [x for x in (normals, uvs, tints) if x is not None]
    first, inverse = alike(numbers, apart)
    geometry = Geometry(
        np.ascontiguousarray(points[numbers[first]], np.float32),
        unit_rows(normals[first]),
        None if uvs is None else np.ascontiguousarray(uvs[first], np.float32),
        np.ascontiguousarray(inverse[corner], np.uint32),
        colors=None if tints is None else np.ascontiguousarray(tints[first], np.float32),
    )
    return geometry, owner


def polygons_of(prim: Any, time: Any) -> tuple[NDArray[np.float64], Ints, Ints] | None:
    """Points (V, 3), corners of each polygon, and their vertices; None where there is none."""
    from pxr import UsdGeom

    mesh = UsdGeom.Mesh(prim)
    points = array_of(mesh.GetPointsAttr().Get(time), 3)
    counts: Ints = np.array(mesh.GetFaceVertexCountsAttr().Get(time) or [], np.int64)
    numbers: Ints = np.array(mesh.GetFaceVertexIndicesAttr().Get(time) or [], np.int64)
    if len(points) == 0 or len(numbers) == 0:
        return None
    if (counts < 0).any() or int(counts.sum()) != len(numbers):
        raise damaged(
            str(prim.GetPath()),
            f"its faces have {int(counts.sum()):,} corners and {len(numbers):,} are given",
        )
    return points, counts, numbers


def polygon_mesh(prim: Any, time: Any, subsets: list[Ints], bound: list[int]) -> Mesh | None:
    """The mesh of a prim as its polygons; None where it has no triangle.

    `subsets` are the polygons of material subsets, `bound` their materials, then that of the rest.
    """
    geometry, owner = read_mesh(prim, time)
    if geometry is None:
        return None
    parts: list[Part] = []
    left = np.unique(owner)
    for wanted, number in zip(subsets, bound[:-1], strict=True):
        faces = np.intersect1d(wanted, left)
        left = np.setdiff1d(left, faces)
        part = part_of_faces(geometry, owner, faces)
        parts += [part_of(part, number)] if part is not None else []
    part = part_of_faces(geometry, owner, left if subsets else None)
    parts += [part_of(part, bound[-1])] if part is not None else []
    return Mesh(prim.GetName(), tuple(parts)) if parts else None


def part_of_faces(g: Geometry, owner: Ints, faces: Ints | None) -> Geometry | None:
    """The triangles of some polygons, with only the vertices that they use."""
    triangles = g.triangles if faces is None else g.triangles[np.isin(owner, faces)]
    if len(triangles) == 0:
        return None
    return subset(g, triangles)


def array_of(values: Any, width: int) -> NDArray[np.float64]:
    """Values of a stage as rows of so many numbers."""
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


def places(
    prim: Any, time: Any, counts: Ints, numbers: Ints
) -> tuple[NDArray[np.float64] | None, str]:
    """The first set of places on a texture, V turned to run down, a row a corner; and how they are
    given between: "st" where there is one of that name.
    """
    from pxr import UsdGeom

    found = [
        p
        for p in UsdGeom.PrimvarsAPI(prim).GetPrimvarsWithValues()
        if str(p.GetTypeName()) in ("texCoord2f[]", "float2[]")
    ]
    found.sort(key=lambda p: (p.GetPrimvarName() not in ("st", "UVMap"), p.GetPrimvarName()))
    for p in found:
        uvs = _spread(array_of(p.ComputeFlattened(time), 2), p.GetInterpolation(), counts, numbers)
        if uvs is not None:
            out = np.stack([uvs[:, 0], 1.0 - uvs[:, 1]], 1)
            out[~np.isfinite(out)] = 0.0
            return np.ascontiguousarray(out), str(p.GetInterpolation())
    return None, ""


def _flat(
    points: NDArray[Any], numbers: Ints, corner: Ints, owner: Ints, counts: Ints
) -> NDArray[np.float64]:
    p = points[numbers[corner]]
    n = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    whole = np.stack([np.bincount(owner, n[:, k], len(counts)) for k in range(3)], 1)
    return np.ascontiguousarray(np.repeat(whole, counts, 0))


def colours(prim: Any, time: Any, counts: Ints, numbers: Ints) -> NDArray[np.float64] | None:
    """Display colours and opacities for every corner, (C, 4); None where one colour is for all, or
    where a material is bound.
    """
    from pxr import UsdGeom, UsdShade

    api = UsdGeom.PrimvarsAPI(prim)
    colour = api.FindPrimvarWithInheritance("displayColor")
    if not colour or not colour.HasValue():
        return None
    values = array_of(colour.ComputeFlattened(time), 3)
    material, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
    if len(values) < 2 or material:
        return None
    spread = _spread(values, colour.GetInterpolation(), counts, numbers)
    if spread is None:
        return None
    opacity = np.ones((len(spread), 1))
    clear = api.FindPrimvarWithInheritance("displayOpacity")
    if clear and clear.HasValue():
        found = array_of(clear.ComputeFlattened(time), 1)
        laid = _spread(np.repeat(found, 3, 1), clear.GetInterpolation(), counts, numbers)
        opacity = opacity if laid is None else laid[:, :1]
    return np.ascontiguousarray(np.clip(np.concatenate([spread, opacity], 1), 0.0, 1.0))


def alike(numbers: Ints, values: list[NDArray[np.float64]]) -> tuple[Ints, Ints]:
    """The first corner of each kind of corner, and the kind of every corner.

    Corners are alike that have the same vertex and the same values, bit by bit.  Values are hashed
    to one number first: a sort of numbers is much quicker than one of rows.
    """
    key = numbers.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15)
    for array in values:
        for column in np.ascontiguousarray(array).view(np.uint64).T:
            key ^= column
            key *= np.uint64(0xBF58476D1CE4E5B9)
            key ^= key >> np.uint64(29)
    _, first, inverse = np.unique(key, return_index=True, return_inverse=True)
    inverse = inverse.reshape(-1)
    same = numbers == numbers[first][inverse]
    for array in values:
        bits = np.ascontiguousarray(array).view(np.uint64)
        same &= (bits == bits[first][inverse]).all(1)
    if not same.all():  # two kinds of one hash: rows tell them apart
        rows = np.concatenate(
            [numbers[:, None], *(np.ascontiguousarray(a).view(np.int64) for a in values)], 1
        )
        _, first, inverse = np.unique(rows, axis=0, return_index=True, return_inverse=True)
    return first, inverse.reshape(-1)
