"""A format of scenes: a line of nine numbers a triangle."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.formats.catalogue import Download, Format
from mill_lane.core.progress import Progress
from mill_lane.core.scene.model import Geometry, Mesh, Node, Note, Part, Scene


def read(path: Path, progress: Progress) -> Scene:
    """Read triangles; MillError where a line does not hold nine numbers."""
    try:
        corners = np.loadtxt(path, np.float32, ndmin=2).reshape(-1, 3, 3)
    except ValueError as e:
        raise MillError(f"{path.name} is damaged: {e}.", "Nothing was imported.") from e
    positions = corners.reshape(-1, 3)
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals = np.repeat(across / np.linalg.norm(across, axis=1, keepdims=True), 3, axis=0)
    triangles = np.arange(len(positions), dtype=np.uint32).reshape(-1, 3)
    made = Geometry(positions, normals.astype(np.float32), None, triangles)
    low, high = (tuple(map(float, f(positions, axis=0))) for f in (np.min, np.max))
    part = Part(-1, len(positions), len(triangles), low, high, False, lambda: made)
    return Scene(path.stem, (Node("soup", mesh=0),), (Mesh("soup", (part,)),))


def write(scene: Scene, path: Path, progress: Progress) -> list[Note]:
    """Write the triangles of every mesh, where they were modelled."""
    rows = [g.positions[g.triangles].reshape(-1, 9) for g in geometries(scene)]
    np.savetxt(path, np.concatenate(rows), "%.9g")
    return [Note("plain", "note", "Triangles hold no materials.")]


def geometries(scene: Scene) -> list[Geometry]:
    """What stands in the scene's meshes."""
    return [part.load() for mesh in scene.meshes for part in mesh.parts]


SOUP = Format(
    "soup",
    (".soup",),
    read,
    ((".soup", write),),
    unitless=True,
    download=Download("Soup", ".soup", "text/plain"),
)
