"""The vertices of one glTF primitive (section 3.7)."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf.accessors import read_accessor, read_floats
from mill_lane.core.formats.gltf.container import MISSHAPEN, Document, broken, misshapen
from mill_lane.core.scene.model import F32, Geometry, Part


def read_part(
    document: Document, entry: dict[str, Any], materials: int, source: tuple[int, int]
) -> Part:
    """A part whose vertices are read when wanted; counts and bounds come from the accessors."""
    attributes = entry["attributes"]
    position = document.item("accessors", attributes["POSITION"])
    vertices = int(position["count"])
    corners = (
        int(document.item("accessors", entry["indices"])["count"])
        if "indices" in entry
        else vertices
    )
    mode = entry.get("mode", 4)
    triangles = corners // 3 if mode == 4 else max(0, corners - 2)
    material = entry.get("material", -1)
    if not -1 <= material < materials:
        raise broken(
            document.name, f"a mesh names material {material}, of which there are {materials}"
        )
    if "min" in position and "max" in position and not position.get("normalized"):
        lo, hi = [float(x) for x in position["min"]], [float(x) for x in position["max"]]
    else:
        p = read_floats(document, attributes["POSITION"], 3)
        lo, hi = p.min(0).tolist(), p.max(0).tolist()
    # With no indices every corner is a vertex; without normals the loader splits the vertices to
    # make flat ones.
    held = vertices if "NORMAL" in attributes else triangles * 3
    return Part(
        material=material,
        vertices=held,
        triangles=triangles,
        bounds_min=(lo[0], lo[1], lo[2]),
        bounds_max=(hi[0], hi[1], hi[2]),
        has_uvs="TEXCOORD_0" in attributes,
        load=partial(load_geometry, document, entry),
        source=source,
    )


def load_geometry(document: Document, entry: dict[str, Any]) -> Geometry:
    """Read the vertices.

    Strips and fans become triangles; missing normals are made flat, as section 3.7.2.1 asks.

    Raises MillError for indices beyond the vertices and for positions that are not finite numbers.
    """
    try:
        return _geometry(document, entry)
    except MISSHAPEN as e:
        raise misshapen(document.name, e) from e


def _geometry(document: Document, entry: dict[str, Any]) -> Geometry:
    attributes = entry["attributes"]
    positions = read_floats(document, attributes["POSITION"], 3)
    bad = np.flatnonzero(~np.isfinite(positions).all(1))
    if bad.size:
        raise MillError(
            f"A mesh of {document.name} has {bad.size} vertices whose position is not a number "
            f"(first: {bad[0]}).",
            "Clean the mesh (merge doubles, delete loose vertices) and export it again.",
            "Nothing was imported.",
        )
    n = len(positions)
    if "indices" in entry:
        corners = read_accessor(document, entry["indices"])[:, 0].astype(np.uint32)
        if corners.size and int(corners.max()) >= n:
            raise broken(document.name, f"a triangle names vertex {int(corners.max())} of {n}")
    else:
        corners = np.arange(n, dtype=np.uint32)
    triangles = _triangles(corners, entry.get("mode", 4))
    uvs = read_floats(document, attributes["TEXCOORD_0"], 2) if "TEXCOORD_0" in attributes else None
    normals = read_floats(document, attributes["NORMAL"], 3) if "NORMAL" in attributes else None
    for values in (uvs, normals):
        if values is not None and len(values) != n:
            raise broken(
                document.name, f"a mesh has {n} positions and {len(values)} normals or UVs"
            )
    if normals is not None:
        return Geometry(
            positions, _unit(normals if normals.flags.writeable else normals.copy()), uvs, triangles
        )
    flat = triangles.reshape(-1)
    positions = positions[flat]
    p = positions.reshape(-1, 3, 3)
    normals = _unit(
        np.repeat(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), 3, axis=0).astype(np.float32)
    )
    apart = np.arange(len(flat), dtype=np.uint32).reshape(-1, 3)
    return Geometry(positions, normals, uvs[flat] if uvs is not None else None, apart)


def _triangles(corners: NDArray[np.uint32], mode: int) -> NDArray[np.uint32]:
    """Corners to (T, 3); section 3.7.2.1 gives the order for strips (5) and fans (6)."""
    if mode == 4:
        return np.ascontiguousarray(corners[: len(corners) // 3 * 3].reshape(-1, 3))
    m = max(0, len(corners) - 2)
    i = np.arange(m)
    if mode == 5:
        return np.stack([corners[i], corners[i + 1 + i % 2], corners[i + 2 - i % 2]], 1)
    return np.stack([corners[i + 1], corners[i + 2], np.broadcast_to(corners[:1], (m,))], 1)


def _unit(v: F32) -> F32:
    length = np.linalg.norm(v, axis=1, keepdims=True)
    # In place: a mesh of millions of vertices should not be held twice.
    v /= np.where(length > 0, length, 1)
    v[~np.isfinite(v).all(1) | (length[:, 0] == 0)] = (0, 1, 0)
    return v
