"""Spheres, cubes, cylinders, cones, capsules and planes of a stage, as meshes (UsdGeom schemas)."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.formats.meshes.soup import smooth_normals
from mill_lane.core.scene.model import F64, Geometry

SIDES, RINGS = 48, 24
KINDS = ("Sphere", "Cube", "Cylinder", "Cone", "Capsule", "Plane")
# From an axis along Z to the one that is asked for.
TURNS = {
    "Z": np.eye(3),
    "X": np.array([[0, 0, 1], [1, 0, 0], [0, 1, 0.0]]),
    "Y": np.array([[0, 1, 0], [0, 0, 1], [1, 0, 0.0]]),
}


def solid_mesh(prim: Any, time: float) -> Geometry | None:
    """The triangles of a solid, in its own unit; None for other kinds and for no extent."""
    kind = prim.GetTypeName()

    def value(name: str, usual: float) -> float:
        found = prim.GetAttribute(name).Get(time) if prim.HasAttribute(name) else None
        return float(found) if isinstance(found, (int, float)) and math.isfinite(found) else usual

    if kind == "Cube":
        return _faceted(_box(value("size", 2.0)))
    if kind == "Plane":
        w, h = value("width", 2.0) / 2, value("length", 2.0) / 2
        corners = np.array([[-w, -h, 0], [w, -h, 0], [w, h, 0], [-w, h, 0.0]])
        return _turned(prim, time, _faceted(corners[np.array([[0, 1, 2], [0, 2, 3]])]))
    if kind == "Sphere":
        return _lathe(_arc(value("radius", 1.0), -90, 90, 0.0))
    radius, height = value("radius", 1.0 if kind != "Capsule" else 0.5), value("height", 2.0)
    if kind == "Capsule":
        half = value("height", 1.0) / 2
        profile = np.concatenate([_arc(radius, -90, 0, -half), _arc(radius, 0, 90, half)])
        return _turned(prim, time, _lathe(profile))
    if kind not in ("Cylinder", "Cone"):
        return None
    top = radius if kind == "Cylinder" else 0.0
    side = np.array([[radius, -height / 2], [top, height / 2]])
    caps = [np.array([[0.0, -height / 2], [radius, -height / 2]])]
    if top > 0:
        caps.append(np.array([[top, height / 2], [0.0, height / 2]]))
    return _turned(prim, time, _joined([_lathe(side), *map(_lathe, caps)]))


def _arc(radius: float, start: float, end: float, middle: float) -> F64:
    """Distances from the axis and heights along it, (RINGS + 1, 2)."""
    a = np.radians(np.linspace(start, end, RINGS + 1))
    return np.stack([radius * np.cos(a), middle + radius * np.sin(a)], 1)


def _lathe(profile: F64) -> Geometry | None:
    """A profile (N, 2) turned round Z, smooth along both ways."""
    a = np.linspace(0, 2 * math.pi, SIDES, endpoint=False)
    points = np.stack(
        [
            profile[:, :1] * np.cos(a),
            profile[:, :1] * np.sin(a),
            np.broadcast_to(profile[:, 1:], (len(profile), SIDES)),
        ],
        -1,
    ).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(len(profile) - 1), np.arange(SIDES), indexing="ij")
    p, q = i * SIDES + j, i * SIDES + (j + 1) % SIDES
    triangles = np.concatenate(
        [
            np.stack([p, q, q + SIDES], -1).reshape(-1, 3),
            np.stack([p, q + SIDES, p + SIDES], -1).reshape(-1, 3),
        ]
    )
    c = points[triangles]
    area = np.linalg.norm(np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0]), axis=1)
    triangles = triangles[area > 1e-12 * max(float(area.max(initial=0.0)), 1e-300)]
    if not len(triangles):
        return None
    return Geometry(
        np.ascontiguousarray(points, np.float32),
        smooth_normals(points, triangles),
        None,
        np.ascontiguousarray(triangles, np.uint32),
    )


def _box(size: float) -> F64:
    """The twelve triangles of a cube, (12, 3, 3)."""
    h = size / 2
    out = []
    for axis in range(3):
        for side in (-1.0, 1.0):
            corner = np.zeros((4, 3))
            corner[:, axis] = side * h
            corner[:, (axis + 1) % 3] = np.array([-h, h, h, -h])
            corner[:, (axis + 2) % 3] = np.array([-h, -h, h, h])
            order = [[0, 1, 2], [0, 2, 3]] if side > 0 else [[0, 2, 1], [0, 3, 2]]
            out.append(corner[np.array(order)])
    return np.concatenate(out)


def _faceted(triangles: F64) -> Geometry | None:
    n = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    length = np.linalg.norm(n, axis=1, keepdims=True)
    if not (length > 0).all():
        return None
    return Geometry(
        np.ascontiguousarray(triangles.reshape(-1, 3), np.float32),
        np.ascontiguousarray(np.repeat(n / length, 3, 0), np.float32),
        None,
        np.arange(3 * len(triangles), dtype=np.uint32).reshape(-1, 3),
    )


def _joined(pieces: list[Geometry | None]) -> Geometry | None:
    found = [g for g in pieces if g is not None]
    if not found:
        return None
    starts = np.cumsum([0, *(len(g.positions) for g in found[:-1])])
    return Geometry(
        np.concatenate([g.positions for g in found]),
        np.concatenate([g.normals for g in found]),
        None,
        np.concatenate([g.triangles + np.uint32(n) for g, n in zip(found, starts, strict=True)]),
    )


def _turned(prim: Any, time: float, g: Geometry | None) -> Geometry | None:
    """Along the axis that the prim names; its length is told along Z."""
    if g is None:
        return None
    turn = TURNS.get(str(prim.GetAttribute("axis").Get(time) or "Z"), TURNS["Z"])
    positions, normals = (
        np.ascontiguousarray(x @ turn.T, np.float32) for x in (g.positions, g.normals)
    )
    return Geometry(positions, normals, None, g.triangles)
