"""Meshes that are drawn as subdivision surfaces."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np

from mill_lane.core.scene.model import Geometry, Mesh, Part, Scene
from mill_lane.core.scene.subdivision import Subdivision
from mill_lane.core.subdivision.cage import Cage, Spread, packed, unpacked
from mill_lane.core.subdivision.dice import dice, sizes

# What is left of the mesh that was diced last, until its other parts are asked for.
_LEFT: dict[int, tuple[Callable[[], bytes], int, Geometry]] = {}
_LOCK = threading.Lock()
_DICING = threading.Lock()  # one at a time: each takes many times what is left of it


def surface_mesh(name: str, cage: Cage, materials: list[int], level: int) -> Mesh:
    """A mesh that is drawn as the surface of a cage, a part for each of its materials."""
    data = packed(cage)
    low, high = cage.points.min(0).tolist(), cage.points.max(0).tolist()
    all_sizes = sizes(cage, len(materials))
    parts = [
        Part(
            material,
            size.vertices,
            size.triangles,
            tuple(low),
            tuple(high),
            cage.uvs is not None,
            _nothing,
            has_colors=cage.colors is not None,
        )
        for material, size in zip(materials, all_sizes, strict=True)
    ]
    said = Subdivision(cage.scheme, level, tuple(all_sizes), lambda: data, len(data))
    return diced(Mesh(name, tuple(parts)), said)


def diced(mesh: Mesh, subdivision: Subdivision) -> Mesh:
    """The mesh with the parts that its surface has at the level that it says."""
    parts = []
    for k, (part, size) in enumerate(zip(mesh.parts, subdivision.sizes, strict=True)):
        vertices, triangles = size.at(subdivision.scheme, subdivision.level)
        load = partial(_load, mesh.name, subdivision, k)
        parts.append(replace(part, vertices=vertices, triangles=triangles, load=load))
    return replace(mesh, parts=tuple(parts), subdivision=subdivision)


def at_level(mesh: Mesh, level: int) -> Mesh:
    """The mesh drawn more or less finely; itself where it is no surface."""
    if mesh.subdivision is None or mesh.subdivision.level == level:
        return mesh
    return diced(mesh, replace(mesh.subdivision, level=level))


def cage_of(mesh: Mesh) -> Cage:
    """The cage of a mesh that is drawn as a surface.

    Raises MillError where it is damaged.
    """
    assert mesh.subdivision is not None, "no surface"
    return unpacked(mesh.subdivision.read(), mesh.name)


def cage_parts(mesh: Mesh) -> tuple[Part, ...]:
    """The parts of a surface as its cage has them, flat, each corner a vertex of its own."""
    cage = cage_of(mesh)
    face = np.repeat(np.arange(len(cage.counts)), cage.counts)
    owner = cage.owner[face[cage.cut[:, 0]]]
    return tuple(
        replace(
            part,
            vertices=3 * int((owner == k).sum()),
            triangles=int((owner == k).sum()),
            load=partial(_flat, cage, k),
        )
        for k, part in enumerate(mesh.parts)
    )


def as_triangles(scene: Scene) -> Scene:
    """The scene with every surface as the triangles that it is drawn with."""
    if not any(m.subdivision for m in scene.meshes):
        return scene
    return replace(scene, meshes=tuple(_plain(m) if m.subdivision else m for m in scene.meshes))


def _plain(mesh: Mesh) -> Mesh:
    parts = tuple(replace(p, source=(-1, -1)) for p in mesh.parts)
    return replace(mesh, subdivision=None, source=-1, parts=parts)


def _flat(cage: Cage, part: int) -> Geometry:
    face = np.repeat(np.arange(len(cage.counts)), cage.counts)
    corner = cage.cut[cage.owner[face[cage.cut[:, 0]]] == part]
    p = cage.points[cage.corners[corner]]
    normal = np.repeat(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), 3, 0)
    length = np.linalg.norm(normal, axis=1, keepdims=True)
    normal = np.where(length > 0, normal / np.where(length > 0, length, 1), (0.0, 1.0, 0.0))

    def of(spread: Spread | None) -> np.ndarray | None:
        if spread is None:
            return None
        return np.ascontiguousarray(spread.values[spread.at[corner.reshape(-1)]], np.float32)

    return Geometry(
        np.ascontiguousarray(p.reshape(-1, 3), np.float32),
        np.ascontiguousarray(normal, np.float32),
        of(cage.uvs),
        np.arange(corner.size, dtype=np.uint32).reshape(-1, 3),
        colors=of(cage.colors),
    )


def _load(name: str, said: Subdivision, part: int) -> Geometry:
    """One part of a surface.

    All parts of a mesh come of one evaluation: the others are held until they are asked for, or
    another mesh is.
    """
    with _LOCK:
        found = _LEFT.get(part)
        if found is not None and found[0] is said.read and found[1] == said.level:
            return _LEFT.pop(part)[2]
    with _DICING:
        made = dice(unpacked(said.read(), name), said.level)
    made += [None] * (len(said.sizes) - len(made))
    with _LOCK:
        _LEFT.clear()
        for k, g in enumerate(made):
            if k != part and g is not None:
                _LEFT[k] = said.read, said.level, g
    own = made[part]
    return own if own is not None else _nothing()


def _nothing() -> Geometry:
    none = np.zeros((0, 3), np.float32)
    return Geometry(none, none, None, none.astype(np.uint32))
