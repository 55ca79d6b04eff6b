"""Making textures smaller."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

from mill_lane.core.formats.pictures import decode, encode
from mill_lane.core.progress import Progress, silent
from mill_lane.core.render.sizes import image_bytes, srgb_images
from mill_lane.core.render.texture import halve
from mill_lane.core.scene.edit import replace_images
from mill_lane.core.scene.model import Image, Scene
from mill_lane.core.weigh.rules.sizes import halvings

QUALITY = 92


@dataclass(frozen=True)
class Shrink:
    """A picture that was made smaller: pixels, bytes in memory and in its file."""

    image: int
    name: str
    old: tuple[int, int]
    new: tuple[int, int]
    old_bytes: int
    new_bytes: int
    old_file_bytes: int
    new_file_bytes: int


def shrink(
    scene: Scene, sizes: dict[int, int], progress: Progress = silent
) -> tuple[Scene, list[Shrink]]:
    """Halve images until their longer side is within a size.

    Parameters
    ----------
    scene : Scene
        Left as it is.
    sizes : dict
        Pixels of the longer side, by index of the image.
    progress : callable
        Told how far it is, from 0 to 1, and may stop it.

    Returns
    -------
    scene : Scene
    shrinks : list of Shrink

    Notes
    -----
    The smaller picture is the very mip level that the renderer made of the large one: averaged in
    linear light where it holds colour.  PNG stays PNG with its bits, JPEG is encoded anew at
    quality 92.
    """
    colours = srgb_images(scene)
    images: dict[int, Image] = {}
    changes = []
    for k, (index, limit) in enumerate(sorted(sizes.items())):
        image = scene.images[index]
        n = halvings(image.width, image.height, limit)
        if n and not image.missing:
            pixels = decode(image.read(), image.mime, image.name)
            for _ in range(n):
                pixels = halve(pixels, index in colours)
            # A Basis texture that was made smaller is a PNG.
            mime = "image/png" if image.mime == "image/ktx2" else image.mime
            data = encode(pixels, mime, QUALITY)
            height, width, channels = pixels.shape
            new = replace(
                image,
                mime=mime,
                width=width,
                height=height,
                channels=channels,
                file_bytes=len(data),
                read=partial(bytes, data),
            )
            images[index] = new
            changes.append(
                Shrink(
                    index,
                    image.name,
                    (image.width, image.height),
                    (width, height),
                    image_bytes(image),
                    image_bytes(new),
                    image.file_bytes,
                    len(data),
                )
            )
        progress((k + 1) / len(sizes), f"textures: {k + 1} of {len(sizes)}")
    return replace_images(scene, images), changes
