"""Writing the demo scene to a file, with progress, and once."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.pictures import ENDINGS, write_pixels
from mill_lane.core.formats.textures import image_of
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.scene.model import Image
from mill_lane.demo.bakery import FULL, MEDIUM, SMALL, bakery
from mill_lane.demo.builder import Size
from mill_lane.demo.textures import Picture, pictures

SIZES: dict[str, Size] = {"full": FULL, "medium": MEDIUM, "small": SMALL}
# Raise it when the scene changes, so that a cached file of an older one is made anew.
EDITION = 3


def make_demo(
    path: Path, size: str = "full", threads: int = 2, progress: Progress = silent
) -> None:
    """Write the bakery as a GLB.

    The same size gives the same bytes on the same versions of the libraries.
    """
    chosen = SIZES[size]
    scratch = path.with_name(path.name + ".textures")
    scratch.mkdir(parents=True, exist_ok=True)
    wanted = pictures()

    def paint(i: int) -> Image:
        picture: Picture = wanted[i]
        file = scratch / f"{i:03d}{ENDINGS[picture.mime]}"
        write_pixels(file, picture.make(chosen.texture), quality=90)
        return image_of(Blob.file(file), picture.name)

    try:
        tell = part(progress, 0.0, 0.85)
        images: list[Image] = []
        with ThreadPoolExecutor(threads) as pool:
            for image in pool.map(paint, range(len(wanted))):
                images.append(image)
                tell(
                    len(images) / len(wanted), f"painting textures: {len(images)} of {len(wanted)}"
                )
        progress(0.86, "building meshes")
        write_glb(bakery(images, chosen), path, part(progress, 0.9, 1.0))
    finally:
        for file in scratch.glob("*"):
            file.unlink()
        scratch.rmdir()
