"""What the readers of bare meshes share: polygons to triangles, normals, and a scene from
arrays.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.scene.model import (
    F32,
    Geometry,
    Image,
    Material,
    Mesh,
    Node,
    Note,
    Part,
    Scene,
    Texture,
)
from mill_lane.core.scene.parts import part_of

Ints = NDArray[np.int64]
MOST_CORNERS = 2**32 - 2


def damaged(name: str, why: str) -> MillError:
    """The error for a mesh file that is damaged, with what is wrong."""
    return MillError(
        f"{name} is damaged: {why}.", "Export or copy it again.", "Nothing was imported."
    )


# What wears the colours of its vertices, where a file says no more.
COLOURED = Material("vertex colours", metallic=0.0, roughness=0.7)


def fans(counts: Ints) -> Ints:
    """Triangles of polygons as fans round their first corner:

    positions in the list of all corners, (T, 3).

    counts : corners of each polygon, (F,); those with fewer than three give nothing.
    """
    first = np.cumsum(counts) - counts
    triangles = np.maximum(counts - 2, 0)
    owner = np.repeat(np.arange(len(counts)), triangles)
    within = np.arange(len(owner)) - np.repeat(np.cumsum(triangles) - triangles, triangles)
    base = first[owner]
    return np.stack([base, base + 1 + within, base + 2 + within], 1)


def face_normals(positions: NDArray[Any], triangles: NDArray[Any]) -> NDArray[np.float64]:
    """Twice the area times the normal of each triangle, (T, 3)."""
    p = positions[triangles].astype(np.float64)
    return np.asarray(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]))


def unit_rows(v: NDArray[np.float64]) -> F32:
    """Rows of length 1, float32; (0, 1, 0) for those of no length."""
    length = np.linalg.norm(v, axis=1, keepdims=True)
    out = np.where(length > 1e-30, v / np.maximum(length, 1e-30), [0.0, 1.0, 0.0])
    return np.ascontiguousarray(out, np.float32)


def smooth_normals(positions: NDArray[Any], triangles: NDArray[Any]) -> F32:
    """At each vertex the mean of its triangles' normals, by area."""
    flat = face_normals(positions, triangles)
    total = np.zeros((len(positions), 3))
    for axis in range(3):
        for corner in range(3):
            total[:, axis] += np.bincount(triangles[:, corner], flat[:, axis], len(positions))
    return unit_rows(total)


def flat_geometry(positions: F32, uvs: F32 | None, triangles: NDArray[Any]) -> Geometry:
    """A geometry whose triangles share no vertex, each with its own normal."""
    n = unit_rows(face_normals(positions, triangles))
    corners = triangles.reshape(-1)
    return Geometry(
        np.ascontiguousarray(positions[corners], np.float32),
        np.repeat(n, 3, 0),
        None if uvs is None else np.ascontiguousarray(uvs[corners], np.float32),
        np.arange(len(corners), dtype=np.uint32).reshape(-1, 3),
    )


def no_vertex(name: str, count: int) -> MillError:
    """The error for a face with a corner that is none."""
    return damaged(name, f"a face names a vertex that is not among the {count:,} there are")


def checked(name: str, positions: NDArray[Any], triangles: Ints) -> None:
    """Raises MillError for corners that are not there and places that are no numbers."""
    if len(triangles) and (triangles.min() < 0 or triangles.max() >= len(positions)):
        raise no_vertex(name, len(positions))
    bad = int((~np.isfinite(positions).all(1)).sum())
    if bad:
        raise MillError(
            f"{name} has {bad} vertices whose position is not a number.",
            "Clean the mesh (merge doubles, delete loose vertices) and export it again.",
            "Nothing was imported.",
        )


def whole(parts: Sequence[Part]) -> Geometry:
    """All parts of a mesh as one; what has no places on a texture stands at 0 where another part
    has some.
    """
    loaded = [p.load() for p in parts]
    if len(loaded) == 1:
        return loaded[0]
    starts = np.cumsum([0, *(len(g.positions) for g in loaded[:-1])])
    return Geometry(
        np.concatenate([g.positions for g in loaded]),
        np.concatenate([g.normals for g in loaded]),
        _together([g.uvs for g in loaded], loaded, 0.0),
        np.concatenate([g.triangles + np.uint32(n) for g, n in zip(loaded, starts, strict=True)]),
        _together([g.second_uvs for g in loaded], loaded, 0.0),
        _together([g.colors for g in loaded], loaded, 1.0),
    )


def _together(
    values: Sequence[NDArray[np.float32] | None], loaded: Sequence[Geometry], usual: float
) -> NDArray[np.float32] | None:
    """Values of the vertices of all parts, `usual` for parts without; None where none has any."""
    found = next((v for v in values if v is not None), None)
    if found is None:
        return None
    width = found.shape[1]
    return np.concatenate(
        [
            v if v is not None else np.full((len(g.positions), width), usual, np.float32)
            for v, g in zip(values, loaded, strict=True)
        ]
    )


def scene_of(
    name: str,
    meshes: Sequence[tuple[str, Sequence[tuple[int, Geometry]]]],
    materials: Sequence[Material] = (),
    images: Sequence[Image] = (),
    textures: Sequence[Texture] = (),
    notes: Sequence[Note] = (),
    origin: Any = None,
) -> Scene:
    """A scene of meshes, each (name, parts as (material, geometry)), standing where their vertices
    say.
    """
    whole = tuple(
        Mesh(title, tuple(part_of(g, m) for m, g in parts if len(g.triangles)))
        for title, parts in meshes
    )
    kept = tuple(m for m in whole if m.parts)
    if not kept:
        raise MillError(
            f"{name} holds no triangle.",
            "Check that the objects are included in the export.",
            "Nothing was imported.",
        )
    return Scene(
        name,
        tuple(Node(m.name, mesh=i) for i, m in enumerate(kept)),
        kept,
        tuple(materials),
        tuple(textures),
        tuple(images),
        notes=tuple(notes),
        origin=origin,
    )
