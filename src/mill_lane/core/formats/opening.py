"""Opening a scene file of any kind that is read, ready to be weighed and rendered."""

from __future__ import annotations

from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf import read_scene
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.defaults import with_defaults
from mill_lane.core.scene.model import Scene

ENDINGS = (".glb", ".gltf", ".zip")


def open_scene(path: Path) -> Scene:
    """The scene of a file, with a camera and a light added where it has none.

    Raises MillError when the file cannot be used.
    """
    return with_defaults(read_scene(path))


def check_vertices(scene: Scene, progress: Progress = silent) -> None:
    """Read every mesh once, so that damage shows when a file comes in and not in the middle of a render.

    Raises MillError naming the mesh.
    """
    parts = [(mesh, p) for mesh in scene.meshes for p in mesh.parts]
    for i, (mesh, p) in enumerate(parts):
        try:
            p.load()
        except MillError as e:
            raise MillError(f"Mesh “{mesh.name}”: {e.message}", e.hint, e.kept) from e
        progress((i + 1) / len(parts), f"checking meshes: {i + 1} of {len(parts)}")
