"""Opening a scene file of any kind that is read, ready to be weighed and rendered."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf import read_scene
from mill_lane.core.formats.meshes import read_obj, read_ply, read_stl
from mill_lane.core.formats.units import with_units
from mill_lane.core.formats.unpack import first_file, is_zip, the_scene, unpack
from mill_lane.core.formats.usd import read_usd
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.defaults import with_defaults
from mill_lane.core.scene.model import Scene

READERS: dict[str, Callable[[Path], Scene]] = {
    ".glb": read_scene,
    ".gltf": read_scene,
    ".obj": read_obj,
    ".ply": read_ply,
    ".stl": read_stl,
}
STAGES = (".usd", ".usda", ".usdc")
UNITLESS = (".obj", ".ply", ".stl")  # formats that say neither unit nor axis
ENDINGS = (*READERS, *STAGES, ".usdz", ".zip")


def open_scene(path: Path, progress: Progress = silent) -> Scene:
    """The scene of a file, with a camera and a light added where it has none.

    `progress` is told of formats that take long.  Raises MillError when the file cannot be used.
    """
    try:
        if path.stat().st_size == 0:
            raise MillError(
                f"{path.name} is empty (0 bytes).",
                "Export the scene again.",
                "Nothing was imported.",
            )
        if not is_zip(path):
            return with_defaults(_read(path, progress))
    except OSError as e:
        raise MillError(
            f"{path.name} cannot be read: {e.strerror}.", "Check the path and try again."
        ) from e
    keep = unpack(path)
    if path.suffix.lower() == ".usdz":
        scene = _read(first_file(path, Path(keep.name)), progress)
    else:
        scene = _read(the_scene(Path(keep.name), (*READERS, *STAGES), path.name), progress)
    # Vertices and pixels are read later: the unpacked files stay as long as the scene does.
    return with_defaults(replace(scene, keep=(keep, scene.keep)))


def _read(path: Path, progress: Progress) -> Scene:
    ending = path.suffix.lower()
    scene = read_usd(path, progress) if ending in STAGES else READERS.get(ending, read_scene)(path)
    return with_units(scene, ending) if ending in UNITLESS else scene


def check_vertices(scene: Scene, progress: Progress = silent) -> None:
    """Read every mesh once, so that damage shows when a file comes in and not in the middle of a
    render.

    Raises MillError naming the mesh.
    """
    parts = [(mesh, p) for mesh in scene.meshes for p in mesh.parts]
    for i, (mesh, p) in enumerate(parts):
        try:
            p.load()
        except MillError as e:
            raise MillError(f"Mesh “{mesh.name}”: {e.message}", e.hint, e.kept) from e
        progress((i + 1) / len(parts), f"checking meshes: {i + 1} of {len(parts)}")
