"""Several pictures as the channels of one, as the renderer reads them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.pictures import decode, encode
from mill_lane.core.formats.textures import missing_image
from mill_lane.core.scene.model import Image, Note

Planes = Sequence[NDArray[np.uint8] | None]


def rough_and_metal(
    rough: Image | None,
    metal: Image | None,
    name: str,
    notes: list[Note],
    channels: tuple[int, int] = (0, 0),
) -> Image:
    """Put a roughness and a metal picture together: green and blue.

    Parameters
    ----------
    rough, metal : Image or None
        Where there is none, its channel is full, so that a factor alone counts.
    name : str
    notes : list of Note
        Told of tiles that one set has and the other lacks.
    channels : tuple of int
        Which channel of each is read.

    Returns
    -------
    Image
        A PNG of the larger size; the smaller picture is enlarged without smoothing.  Sets of tiles
        are put together tile by tile.
    """
    return _by_tile(
        rough,
        metal,
        name,
        notes,
        lambda a, b: (None, plane_of(a, channels[0]), plane_of(b, channels[1])),
    )


def with_opacity(
    base: Image | None, opacity: Image, name: str, channel: int, notes: list[Note]
) -> Image:
    """Put a base colour and an opacity picture together, the second as alpha.

    Parameters
    ----------
    base : Image or None
        Where there is none, its colour is white, so that a factor alone counts.
    opacity : Image
    name : str
    channel : int
        Which channel of the opacity picture is read; -1 for its alpha where it has one that says
        anything, else for its luminance.
    notes : list of Note
        As of `rough_and_metal`.

    Returns
    -------
    Image
        As of `rough_and_metal`.
    """

    def planes(a: Image | None, b: Image | None) -> Planes:
        colours = [plane_of(a, k) for k in range(3)] if a and not a.missing else [None] * 3
        return (*colours, plane_of(b, channel))

    return _by_tile(base, opacity, name, notes, planes)


def plane_of(image: Image | None, channel: int) -> NDArray[np.uint8] | None:
    """One channel of a picture, 8 bits (H, W); None where there is none, or nothing to decode.

    Of a grey picture each colour is the grey; channel -1 is what `with_opacity` says.
    """
    if image is None or image.missing:
        return None
    pixels = decode(image.read(), image.mime, image.name)
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
    depth = pixels.shape[2]
    if channel < 0:
        if depth in (2, 4) and pixels[..., -1].min() < 255:
            return np.ascontiguousarray(pixels[..., -1])
        if depth < 3:
            return np.ascontiguousarray(pixels[..., 0])
        # Of the code values, as the trade's mask pictures are meant (Rec. 709 weights).
        luma = pixels[..., :3] @ np.array([0.2126, 0.7152, 0.0722], np.float32)
        return np.round(luma).astype(np.uint8)
    if depth < 3 and channel < 3:
        return np.ascontiguousarray(pixels[..., 0])
    return np.ascontiguousarray(pixels[..., min(channel, depth - 1)])


def _by_tile(
    first: Image | None,
    second: Image | None,
    name: str,
    notes: list[Note],
    planes: Callable[[Image | None, Image | None], Planes],
) -> Image:
    tiles = {n: None for image in (first, second) if image is not None for n in image.tiles}
    if not tiles:
        return _joined(name, planes(first, second))

    def tile(image: Image | None, n: int) -> Image | None:
        if image is None or not image.tiles:
            return image
        stem = Path(image.name).stem
        return image.tiles.get(n) or missing_image(f"{stem}, tile {n}", notes)

    pairs = {n: (tile(first, n), tile(second, n)) for n in tiles}
    made = {n: _joined(f"{name} {n}", planes(a, b)) for n, (a, b) in pairs.items()}
    return replace(next(iter(made.values())), name=name, tiles=made)


def _joined(name: str, planes: Planes) -> Image:
    """A PNG of those channels, full where there is none."""
    shapes = [p.shape for p in planes if p is not None] or [(1, 1)]
    size = max(shapes, key=lambda s: s[0] * s[1])
    pixels = np.full((*size, len(planes)), 255, np.uint8)
    for slot, plane in enumerate(planes):
        if plane is not None:
            rows, columns = (np.arange(n) * m // n for n, m in zip(size, plane.shape, strict=True))
            pixels[..., slot] = plane[rows][:, columns]
    data = encode(pixels, "image/png")
    return Image(name, "image/png", size[1], size[0], len(planes), 8, len(data), lambda: data)
