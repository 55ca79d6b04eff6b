"""Writing a scene in the format that a file's ending names."""

from __future__ import annotations

import tempfile
import zipfile
from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.meshes.obj_write import write_obj
from mill_lane.core.formats.usd.write import write_usd
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.scene.model import Note, Scene

ENDINGS = (".glb", ".obj", ".zip", ".usda", ".usdc", ".usdz")  # .zip holds an OBJ with its textures


def save_scene(scene: Scene, path: Path, progress: Progress = silent) -> list[Note]:
    """Write the scene; returns what the format could not hold.

    Raises MillError for an ending that is none of ENDINGS.
    """
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise MillError(
            f"Scenes are not written as {ending or 'files without an ending'}.",
            f"Use {', '.join(ENDINGS)}.",
        )
    if ending == ".glb":
        write_glb(scene, path, progress)
        return []
    if ending == ".obj":
        return write_obj(scene, path, progress)
    if ending in (".usda", ".usdc"):
        return write_usd(scene, path, progress)
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".writing-") as name:
        folder = Path(name)
        if ending == ".usdz":
            notes = write_usd(scene, folder / path.name, part(progress, 0.0, 0.9))
            (folder / path.name).replace(path)
            return notes
        notes = write_obj(scene, folder / f"{path.stem}.obj", part(progress, 0.0, 0.8))
        packed = folder / "packed"
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED, compresslevel=3) as archive:
            for file in sorted(p for p in folder.rglob("*") if p.is_file() and p != packed):
                # Pictures are packed already.
                kind = (
                    zipfile.ZIP_DEFLATED if file.suffix in (".obj", ".mtl") else zipfile.ZIP_STORED
                )
                archive.write(file, str(file.relative_to(folder)), kind)
                progress(0.9, f"packing {file.name}")
        packed.replace(path)
        return notes
