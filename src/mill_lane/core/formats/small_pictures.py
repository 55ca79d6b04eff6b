"""Pictures at a fraction of their size, for looking at a scene before all of it is read.

A JPEG is decoded at an eighth, a quarter or a half of its size, which its blocks allow (ITU-T T.81,
annex K: a coarser inverse transform).  What is slow to decode comes as one flat colour first.
"""

from __future__ import annotations

import io
from dataclasses import replace
from functools import partial

import numpy as np
from PIL import Image as Pillow

from mill_lane.core.formats.pictures import Pixels, decode, encode
from mill_lane.core.scene.model import Image

SIDE = 512  # of a small picture, at most, about
SLOW = 1_200_000  # pixels of a PNG beyond which it is not decoded at once
NORMAL, GREY = (128, 128, 255), (188, 188, 188)


def is_slow(image: Image) -> bool:
    """Whether a picture takes long to decode, however small it is wanted."""
    pixels = image.width * image.height
    if image.mime == "image/jpeg":
        return pixels > 30 * SLOW
    return pixels > SLOW


def flat_image(image: Image, role: str) -> Image:
    """One colour in the place of a picture: straight up for a normal map, grey, or the factor."""
    colour = NORMAL if "normal" in role else GREY if "colour" in role else (255, 255, 255)
    data = encode(np.array(colour, np.uint8).reshape(1, 1, 3), "image/png")
    return _as(image, np.empty((1, 1, 3), np.uint8), data)


def small_image(image: Image, side: int = SIDE) -> Image:
    """The picture with a longer side of at most about `side` pixels, 8 bits a channel.

    Raises MillError for a picture that cannot be decoded.
    """
    if image.missing or max(image.width, image.height) <= side:
        return image
    pixels = _jpeg(image.read(), side) if image.mime == "image/jpeg" else None
    if pixels is None:
        pixels = decode(image.read(), image.mime, image.name)
    if pixels.dtype == np.uint16:
        pixels = (pixels >> 8).astype(np.uint8)
    k = max(1, round(max(pixels.shape[:2]) / side))
    pixels = _box(pixels, k)
    return _as(image, pixels, encode(pixels, "image/png"))


def _jpeg(data: bytes, side: int) -> Pixels | None:
    with Pillow.open(io.BytesIO(data), formats=["JPEG"]) as picture:
        if picture.mode not in ("RGB", "L"):
            return None
        picture.draft(picture.mode, (side, side))
        pixels = np.asarray(picture)
    return pixels[..., None] if pixels.ndim == 2 else pixels


def _box(pixels: Pixels, k: int) -> Pixels:
    """Every k x k pixels as their mean."""
    h, w, channels = pixels.shape
    h, w = max(h // k, 1) * min(k, h), max(w // k, 1) * min(k, w)
    down, across = min(k, pixels.shape[0]), min(k, pixels.shape[1])
    cut = pixels[:h, :w].reshape(h // down, down, w // across, across, channels)
    return np.ascontiguousarray(cut.mean((1, 3), dtype=np.float32).round().astype(np.uint8))


def _as(image: Image, pixels: Pixels, data: bytes) -> Image:
    height, width, channels = pixels.shape
    return replace(
        image,
        mime="image/png",
        width=width,
        height=height,
        channels=channels,
        bits=8,
        file_bytes=len(data),
        read=partial(bytes, data),
    )
