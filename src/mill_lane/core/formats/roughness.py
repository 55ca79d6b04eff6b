"""Roughness and metal in one picture, as the renderer reads them: green and blue."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.pictures import decode, encode
from mill_lane.core.scene.model import Image


def plane_of(image: Image | None, channel: int) -> NDArray[np.uint8] | None:
    """One channel of a picture, 8 bits (H, W); None where there is none, or nothing to decode."""
    if image is None or image.missing:
        return None
    pixels = decode(image.read(), image.mime, image.name)
    plane = pixels[..., min(channel, pixels.shape[2] - 1)]
    return (plane >> 8).astype(np.uint8) if plane.dtype == np.uint16 else plane


def packed(
    rough: Image | None, metal: Image | None, name: str, channels: tuple[int, int] = (0, 0)
) -> Image:
    """Put two pictures together.

    Parameters
    ----------
    rough, metal : Image or None
        Where there is none, its channel is full, so that a factor alone counts.
    name : str
    channels : tuple of int
        Which channel of each is read.

    Returns
    -------
    Image
        A PNG of the larger size; the smaller picture is enlarged without smoothing.  Sets of tiles
        are put together tile by tile.
    """
    tiles = {n: None for image in (rough, metal) if image is not None for n in image.tiles}
    if tiles:
        pairs = {
            n: [image.tiles.get(n) if image and image.tiles else image for image in (rough, metal)]
            for n in tiles
        }
        made = {n: packed(a, b, f"{name} {n}", channels) for n, (a, b) in pairs.items()}
        return replace(next(iter(made.values())), name=name, tiles=made)
    planes = [plane_of(image, c) for image, c in zip((rough, metal), channels, strict=True)]
    shapes = [p.shape for p in planes if p is not None] or [(1, 1)]
    size = max(shapes, key=lambda s: s[0] * s[1])
    pixels = np.full((*size, 3), 255, np.uint8)
    for slot, plane in zip((1, 2), planes, strict=True):
        if plane is not None:
            rows, columns = (np.arange(n) * m // n for n, m in zip(size, plane.shape, strict=True))
            pixels[..., slot] = plane[rows][:, columns]
    data = encode(pixels, "image/png")
    return Image(name, "image/png", size[1], size[0], 3, 8, len(data), lambda: data)
