"""The vertices of one glTF primitive (section 3.7)."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf.accessors import read_accessor, read_floats
from mill_lane.core.formats.gltf.container import MISSHAPEN, Document, broken, misshapen
from mill_lane.core.formats.gltf.draco import compressed, decode_primitive, normalised
from mill_lane.core.scene.model import F32, Geometry, Part


def read_part(
    document: Document, entry: dict[str, Any], second_sets: list[int], source: tuple[int, int]
) -> Part:
    """A part whose vertices are read when wanted; counts and bounds come from the accessors.

    `second_sets` has for each material the number of the other UV set that its textures use.
    """
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
    if not -1 <= material < len(second_sets):
        known = len(second_sets)
        raise broken(document.name, f"a mesh names material {material}, of which there are {known}")
    second = second_sets[material] if material >= 0 else 0
    second = second if f"TEXCOORD_{second}" in attributes else 0
    if "min" in position and "max" in position and not position.get("normalized"):
        lo, hi = [float(x) for x in position["min"]], [float(x) for x in position["max"]]
    else:
        p = Attributes(document, entry).floats("POSITION", 3)
        assert p is not None
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
        load=partial(load_geometry, document, entry, second),
        source=source,
        has_second_uvs=second > 0,
        has_colors="COLOR_0" in attributes,
    )


def load_geometry(
    document: Document, entry: dict[str, Any], second: int = 0, deform: Deform | None = None
) -> Geometry:
    """Read the vertices.

    Strips and fans become triangles; missing normals are made flat, as section 3.7.2.1 asks.
    `second` is the number of another UV set that is read, 0 for none; `deform` moves positions and
    normals.

    Raises MillError for indices beyond the vertices and for positions that are not finite numbers.
    """
    try:
        return _geometry(document, entry, second, deform)
    except MISSHAPEN as e:
        raise misshapen(document.name, e) from e


class Attributes:
    """The attributes and corners of one primitive, compressed or not."""

    def __init__(self, document: Document, entry: dict[str, Any]) -> None:
        self.document, self.entry = document, entry
        self.numbers: dict[str, Any] = entry["attributes"]
        self.decoded: dict[str, NDArray[Any]] = {}
        self.faces: NDArray[np.uint32] | None = None
        if compressed(entry) is not None:
            self.faces, self.decoded = decode_primitive(document, entry)

    def floats(self, semantic: str, width: int) -> F32 | None:
        """An attribute as float32 (V, width); None where there is none of that name."""
        if semantic in self.decoded:
            accessor = self.document.item("accessors", self.numbers[semantic])
            values = normalised(self.decoded[semantic], bool(accessor.get("normalized")))
            if values.ndim != 2 or values.shape[1] != width:
                raise broken(self.document.name, f"{semantic} has not {width} values a vertex")
            return values
        if semantic not in self.numbers:
            return None
        return read_floats(self.document, self.numbers[semantic], width)

    def colors(self) -> F32 | None:
        """COLOR_0 with alpha, (V, 4)."""
        if "COLOR_0" not in self.numbers:
            return None
        kind = self.document.item("accessors", self.numbers["COLOR_0"])["type"]
        values = self.floats("COLOR_0", 3 if kind == "VEC3" else 4)
        if values is None or values.shape[1] == 4:
            return values
        return np.concatenate([values, np.ones((len(values), 1), np.float32)], 1)

    def triangles(self, vertices: int) -> NDArray[np.uint32]:
        """The corners as (T, 3)."""
        if self.faces is not None:
            corners = self.faces.reshape(-1)
        elif "indices" in self.entry:
            corners = read_accessor(self.document, self.entry["indices"])[:, 0].astype(np.uint32)
        else:
            corners = np.arange(vertices, dtype=np.uint32)
        if corners.size and int(corners.max()) >= vertices:
            raise broken(
                self.document.name, f"a triangle names vertex {int(corners.max())} of {vertices}"
            )
        return _triangles(corners, 4 if self.faces is not None else self.entry.get("mode", 4))


Deform = Callable[[Attributes, F32, "F32 | None"], "tuple[F32, F32 | None]"]


def _geometry(
    document: Document, entry: dict[str, Any], second: int, deform: Deform | None
) -> Geometry:
    own = Attributes(document, entry)
    positions = own.floats("POSITION", 3)
    assert positions is not None
    bad = np.flatnonzero(~np.isfinite(positions).all(1))
    if bad.size:
        raise MillError(
            f"A mesh of {document.name} has {bad.size} vertices whose position is not a number "
            f"(first: {bad[0]}).",
            "Clean the mesh (merge doubles, delete loose vertices) and export it again.",
            "Nothing was imported.",
        )
    n = len(positions)
    triangles = own.triangles(n)
    uvs, normals, colors = own.floats("TEXCOORD_0", 2), own.floats("NORMAL", 3), own.colors()
    others = own.floats(f"TEXCOORD_{second}", 2) if second else None
    for values in (uvs, normals, colors, others):
        if values is not None and len(values) != n:
            raise broken(
                document.name, f"a mesh has {n} positions and {len(values)} normals, UVs or colours"
            )
    if deform is not None:
        positions, normals = deform(own, positions, normals)
    if normals is not None:
        unit = _unit(normals if normals.flags.writeable else normals.copy())
        return Geometry(positions, unit, uvs, triangles, others, colors)
    flat = triangles.reshape(-1)
    positions = positions[flat]
    p = positions.reshape(-1, 3, 3)
    normals = _unit(
        np.repeat(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), 3, axis=0).astype(np.float32)
    )
    apart = np.arange(len(flat), dtype=np.uint32).reshape(-1, 3)
    uvs, others, colors = (x[flat] if x is not None else None for x in (uvs, others, colors))
    return Geometry(positions, normals, uvs, apart, others, colors)


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
