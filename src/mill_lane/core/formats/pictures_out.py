"""The pictures of a scene as files beside it, each under a name of its own."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from mill_lane.core.formats.pictures import ENDINGS, decode, write_pixels
from mill_lane.core.names import plain
from mill_lane.core.scene.model import Image, Scene

TILE = re.compile(r"(\d+)\.(\d{4})$")  # at the end of the token of a tile


def write_channel(image: Image, channel: int, factor: float, file: Path) -> float:
    """Write one channel of a picture, times a factor, as a grey PNG; returns its mean, 0 to 1.

    A missing picture is neutral grey, as it is drawn.
    """
    if image.missing:
        plane = np.full((1, 1), 188 / 255)
    else:
        pixels = decode(image.read(), image.mime, image.name)
        top = 65535 if pixels.dtype == np.uint16 else 255
        plane = pixels[..., min(channel, pixels.shape[2] - 1)] / top
    plane = np.clip(plane * factor, 0.0, 1.0)
    if not file.exists():
        write_pixels(file, np.round(plane * 255).astype(np.uint8)[..., None])
    return float(plane.mean())


def write_pictures(scene: Scene, folder: Path, only: set[int] | None = None) -> dict[int, str]:
    """Write the encoded pictures that are there, as they are; returns their file names by image.

    `only` are the images that are wanted, by number; all where it is None.
    """
    folder.mkdir(parents=True, exist_ok=True)
    out: dict[int, str] = {}
    for i, image in enumerate(scene.images):
        if image.missing or (only is not None and i not in only):
            continue
        # What other programs read: WebP and KTX2 are written as PNG, pixel for pixel.
        mime = image.mime if image.mime in ("image/png", "image/jpeg") else "image/png"
        ending = ENDINGS.get(mime, ".png")
        tile = TILE.search(image.path)
        # Tiles of a set have a name that differs by their number alone.
        name = (
            f"tiles_{tile[1]}.{tile[2]}{ending}"
            if tile
            else f"{plain(Path(image.name).stem, 'picture')}_{i}{ending}"
        )
        if mime == image.mime:
            (folder / name).write_bytes(image.read())
        else:
            write_pixels(folder / name, decode(image.read(), image.mime, image.name))
        out[i] = name
    return out
