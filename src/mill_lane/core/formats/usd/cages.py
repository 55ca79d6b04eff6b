"""Subdivision surfaces of a stage: the cage with its creases, corners and rules (UsdGeomMesh)."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.meshes.polygons import cut
from mill_lane.core.formats.meshes.soup import Ints, checked
from mill_lane.core.formats.usd.mesh import alike, colours, places, polygons_of
from mill_lane.core.scene.model import Mesh, Note
from mill_lane.core.subdivision.cage import (
    SCHEMES,
    SEAMS,
    Cage,
    Spread,
    cornered,
    without_borders,
)
from mill_lane.core.subdivision.surface import at_level, surface_mesh
from mill_lane.core.subdivision.topology import INFINITE

F64 = NDArray[np.float64]
LEVEL = 2  # at which surfaces are drawn until somebody chooses
MOST = 4_000_000  # triangles that they come to by themselves; above, the level is lower


def read_cage(prim: Any, time: Any, subsets: list[Ints]) -> Cage | None:
    """The cage of a mesh of the scheme Catmull-Clark or Loop; None where it has no polygon.

    Parameters
    ----------
    prim : Usd.Prim
    time : float
    subsets : list of int64 arrays
        Polygons of each material subset: they are owned by parts 0, 1, …; the others by the next.

    Raises
    ------
    MillError
        Where its numbers do not fit.
    """
    from pxr import UsdGeom

    mesh = UsdGeom.Mesh(prim)
    scheme = "loop" if str(mesh.GetSubdivisionSchemeAttr().Get(time)) == "loop" else "catmullClark"
    found = polygons_of(prim, time)
    if found is None:
        return None
    points, counts, numbers = found
    checked(str(prim.GetPath()), points, numbers.reshape(-1, 1))
    owner = np.full(len(counts), len(subsets))
    for k, faces in reversed(list(enumerate(subsets))):
        owner[faces[(faces >= 0) & (faces < len(counts))]] = k
    holes = np.array(mesh.GetHoleIndicesAttr().Get(time) or [], np.int64)
    owner[holes[(holes >= 0) & (holes < len(counts))]] = -1
    uvs, kind = places(prim, time, counts, numbers)
    tints = colours(prim, time, counts, numbers)
    order = _tidied(counts, numbers)
    if mesh.GetOrientationAttr().Get(time) == UsdGeom.Tokens.leftHanded:
        order = order[::-1]
    face = np.repeat(np.arange(len(counts)), counts)[order]
    order = order[np.argsort(face, kind="stable")]
    face = np.sort(face)
    kept, counts = np.unique(face, return_counts=True)
    if not len(kept):
        return None
    corners, owner = numbers[order], owner[kept]
    triangles = cut(counts, points[corners])
    seams = str(mesh.GetFaceVaryingLinearInterpolationAttr().Get(time) or "cornersPlus1")
    seams = {"vertex": "vertex", "faceVarying": seams}.get(kind, "all")
    cage = Cage(
        scheme,  # type: ignore[arg-type]
        points,
        counts,
        corners,
        *_creases(mesh, time, len(points)),
        owner,
        triangles,
        _spread(corners, uvs, order, seams if seams in SEAMS else "cornersPlus1"),
        _spread(corners, tints, order, "all"),
    )
    if scheme == "loop" and (counts != 3).any():
        cage = _in_triangles(cage)
    rule = str(mesh.GetInterpolateBoundaryAttr().Get(time) or "edgeAndCorner")
    if rule == "edgeAndCorner":
        cage = replace(cage, pinned=cornered(cage))
    elif rule == "none":
        cage = replace(cage, owner=without_borders(cage))
    return cage if (cage.owner >= 0).any() else None


def surface_of(prim: Any, time: Any, subsets: list[Ints], bound: list[int]) -> Mesh | None:
    """The mesh of a subdivision surface; None where it is none, or has no polygon.

    `bound` are the materials of its subsets, then that of the rest.
    """
    from pxr import UsdGeom

    mesh = UsdGeom.Mesh(prim)
    scheme = mesh.GetSubdivisionSchemeAttr()
    # Who writes normals and says nothing of a surface means polygons: surfaces have their own.
    polygons = not scheme.HasAuthoredValue() and mesh.GetNormalsAttr().HasAuthoredValue()
    if polygons or str(scheme.Get(time)) not in SCHEMES:
        return None
    cage = read_cage(prim, time, subsets)
    if cage is None:
        return None
    used = np.unique(cage.owner[cage.owner >= 0])
    owner = np.where(cage.owner >= 0, np.searchsorted(used, cage.owner), -1)
    materials = [bound[k] for k in used]
    return surface_mesh(prim.GetName(), replace(cage, owner=owner), materials, LEVEL)


def within_reason(meshes: list[Mesh], notes: list[Note]) -> list[Mesh]:
    """The meshes with surfaces drawn at a level that keeps all of them within reason; tells it."""
    surfaces = [m.subdivision for m in meshes if m.subdivision is not None]
    if not surfaces:
        return meshes
    level = LEVEL
    while level and sum(s.triangles(level) for s in surfaces) > MOST:
        level -= 1
    total = sum(s.triangles(level) for s in surfaces)
    finer = sum(s.triangles(level + 1) for s in surfaces)
    n = len(surfaces)
    text = (
        f"{n} mesh{'es are subdivision surfaces' if n > 1 else ' is a subdivision surface'}, "
        f"drawn at level {level} with {total:,} triangles; one level more would be {finer:,}. "
        f"Levels by size on screen are among the trims."
    )
    notes.append(Note("subdivision", "look", text))
    return [at_level(m, level) for m in meshes]


def _tidied(counts: Ints, numbers: Ints) -> Ints:
    """Places of corners without those that repeat the one before, and polygons of two or less."""
    face = np.repeat(np.arange(len(counts)), counts)
    starts = np.cumsum(counts) - counts
    after = np.arange(1, len(numbers) + 1)
    full = counts > 0
    after[(starts + counts - 1)[full]] = starts[full]
    kept = np.flatnonzero(numbers != numbers[after])
    left = np.bincount(face[kept], minlength=len(counts))
    return kept[left[face[kept]] >= 3]


def _creases(mesh: Any, time: Any, vertices: int) -> tuple[Ints, F64, F64]:
    """Pairs of vertices along creases, how sharp each is, and how sharp each vertex is."""
    path = np.array(mesh.GetCreaseIndicesAttr().Get(time) or [], np.int64)
    lengths = np.array(mesh.GetCreaseLengthsAttr().Get(time) or [], np.int64)
    given = np.array(mesh.GetCreaseSharpnessesAttr().Get(time) or [], np.float64)
    pairs = np.zeros((0, 2), np.int64)
    sharp = np.zeros(0)
    if len(lengths) and (lengths >= 2).all() and int(lengths.sum()) == len(path):
        last = np.cumsum(lengths) - 1
        begins = np.setdiff1d(np.arange(len(path)), last)
        pairs = np.stack([path[begins], path[begins + 1]], 1)
        if len(given) == len(lengths):
            sharp = np.repeat(given, lengths - 1)
        else:
            sharp = given if len(given) == len(pairs) else np.full(len(pairs), INFINITE)
        good = ((pairs >= 0) & (pairs < vertices)).all(1) & np.isfinite(sharp)
        pairs, sharp = pairs[good], sharp[good]
    pinned = np.zeros(vertices)
    at = np.array(mesh.GetCornerIndicesAttr().Get(time) or [], np.int64)
    hard = np.array(mesh.GetCornerSharpnessesAttr().Get(time) or [], np.float64)
    if len(at) == len(hard):
        good = (at >= 0) & (at < vertices) & np.isfinite(hard)
        pinned[at[good]] = hard[good]
    return pairs, sharp, pinned


def _spread(corners: Ints, values: F64 | None, order: Ints, seams: str) -> Spread | None:
    if values is None:
        return None
    rows = np.ascontiguousarray(values[order])
    first, inverse = alike(corners, [rows])
    return Spread(rows[first], inverse, seams)


def _in_triangles(cage: Cage) -> Cage:
    face = np.repeat(np.arange(len(cage.counts)), cage.counts)
    corner = cage.cut.reshape(-1)

    def of(spread: Spread | None) -> Spread | None:
        return None if spread is None else replace(spread, at=spread.at[corner])

    return replace(
        cage,
        counts=np.full(len(cage.cut), 3),
        corners=cage.corners[corner],
        owner=cage.owner[face[cage.cut[:, 0]]],
        cut=np.arange(len(corner)).reshape(-1, 3),
        uvs=of(cage.uvs),
        colors=of(cage.colors),
    )
