"""Scenes as one file that holds others: an OBJ with its textures in a ZIP."""

from __future__ import annotations

import tempfile
import zipfile
from pathlib import Path

from mill_lane.core.formats.meshes.obj_write import write_obj
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.scene.model import Note, Scene


def write_packed_obj(scene: Scene, path: Path, progress: Progress = silent) -> list[Note]:
    """Write an OBJ with its MTL and textures in one ZIP; returns what OBJ could not hold."""
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".writing-") as name:
        folder = Path(name)
        notes = write_obj(scene, folder / f"{path.stem}.obj", part(progress, 0.0, 0.8))
        packed = folder / "packed"
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED, compresslevel=3) as archive:
            for file in sorted(p for p in folder.rglob("*") if p.is_file() and p != packed):
                # Pictures are packed already.
                text = file.suffix in (".obj", ".mtl")
                kind = zipfile.ZIP_DEFLATED if text else zipfile.ZIP_STORED
                archive.write(file, str(file.relative_to(folder)), kind)
                progress(0.9, f"packing {file.name}")
        packed.replace(path)
    return notes
