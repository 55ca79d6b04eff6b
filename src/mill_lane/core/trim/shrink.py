"""Making textures smaller."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from mill_lane.core.formats.pictures import Pixels
from mill_lane.core.progress import Progress, silent
from mill_lane.core.render.sizes import image_bytes, srgb_images
from mill_lane.core.render.texture import halve
from mill_lane.core.scene.edit import replace_images
from mill_lane.core.scene.model import Image, Scene
from mill_lane.core.trim.bumps import as_codes, into_roughness, mean_normals
from mill_lane.core.trim.pictures import decoded, kept_kind, with_pixels
from mill_lane.core.weigh.rules.sizes import halvings


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
    scene: Scene,
    sizes: dict[int, int],
    progress: Progress = silent,
    bumps: Collection[int] = (),
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
    bumps : collection of int
        Normal maps whose lost bumps go into the roughness of their materials.

    Returns
    -------
    scene : Scene
    shrinks : list of Shrink

    Notes
    -----
    The smaller picture is the very mip level that the renderer made of the large one: averaged in
    linear light where it holds colour.  Normals are averaged as directions.  PNG stays PNG with its
    bits, JPEG is encoded anew at quality 92.
    """
    colours, normals = srgb_images(scene), normal_maps(scene)
    images: dict[int, Image] = {}
    changes = []
    for k, (index, limit) in enumerate(sorted(sizes.items())):
        image = scene.images[index]
        n = halvings(image.width, image.height, limit)
        if n and not image.missing:
            pixels = decoded(image)
            if index in normals and pixels.shape[2] >= 3:
                means = mean_normals(pixels, n)
                if index in bumps:
                    lengths = np.minimum(np.linalg.norm(means, axis=2), 1.0)
                    scene = into_roughness(scene, index, lengths)
                pixels = as_codes(means, pixels)
            else:
                pixels = halved(pixels, n, index in colours)
            images[index] = with_pixels(image, pixels, kept_kind(image))
            changes.append(_told(index, image, images[index]))
        progress((k + 1) / len(sizes), f"textures: {k + 1} of {len(sizes)}")
    return replace_images(scene, images), changes


def normal_maps(scene: Scene) -> set[int]:
    """Images that are normal maps and nothing else."""
    roles: dict[int, set[str]] = {}
    for m in scene.materials:
        for role, use in m.uses():
            roles.setdefault(scene.textures[use.texture].image, set()).add(role)
    return {i for i, found in roles.items() if found == {"normal"}}


def halved(pixels: Pixels, times: int, colour: bool) -> Pixels:
    """A picture (H, W, C) halved so many times, as the mip chain has it."""
    for _ in range(times):
        pixels = halve(pixels, colour)
    return pixels


def _told(index: int, old: Image, new: Image) -> Shrink:
    return Shrink(
        index,
        old.name,
        (old.width, old.height),
        (new.width, new.height),
        image_bytes(old),
        image_bytes(new),
        old.file_bytes,
        new.file_bytes,
    )
