"""What a picture stores and what of it is used:

channels, bits, and whether the same picture is there twice.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import partial

import numpy as np

from mill_lane.core.formats.pictures import Pixels, decode, encode
from mill_lane.core.scene.model import Image

THUMB = 512  # longest side of the small pictures that are looked at instead of the large ones
JPEG_QUALITY = 90
TILE, TILES = 128, 4  # pixels, and how many of them each way, by which a JPEG's size is told
NEAR_GREY = {
    "image/jpeg": 3
}  # codes by which channels of a grey picture may differ: JPEG rounds its colours


@dataclass(frozen=True, eq=False)
class ImageUse:
    """What decoding a picture told.

    channels, bits : used, of those stored.  why : in words, empty where all is used.  digest : of
    its pixels.  small : the same picture with every n-th pixel only.  constant : its one value in
    each channel, 0 to 1, where it has but one.  jpeg_bytes : about what it would take as a JPEG,
    where it is none.
    """

    channels: int
    bits: int
    why: str
    digest: str
    small: Image
    constant: list[float] | None = None
    jpeg_bytes: int | None = None


def inspect_image(image: Image) -> ImageUse:
    """Decode a picture once and measure it.  Raises MillError when it is damaged."""
    if image.missing:
        return ImageUse(image.channels, image.bits, "", "", image)
    pixels = decode(image.read(), image.mime, image.name)
    channels, why = used_channels(pixels, NEAR_GREY.get(image.mime, 0))
    bits = used_bits(pixels)
    if bits < image.bits:
        why.append(f"{image.bits} bits hold {bits}")
    digest = hashlib.blake2b(np.ascontiguousarray(pixels).data, digest_size=16)
    digest.update(str(pixels.shape).encode())
    step = -(-max(pixels.shape[:2]) // THUMB)
    small = np.ascontiguousarray(pixels[::step, ::step])
    data = encode(small, "image/png", 0)
    height, width, count = small.shape
    thumb = Image(
        image.name, "image/png", width, height, count, image.bits, len(data), partial(bytes, data)
    )
    return ImageUse(
        channels,
        bits,
        ", ".join(why),
        digest.hexdigest(),
        thumb,
        constant_of(pixels),
        None if image.mime == "image/jpeg" else jpeg_size(pixels),
    )


def as_jpeg(pixels: Pixels, quality: int = JPEG_QUALITY) -> bytes:
    """A picture (H, W, channels) as a JPEG, without its alpha and in 8 bits."""
    colours = pixels[..., : 3 if pixels.shape[2] > 2 else 1]
    return encode(to_bytes(colours), "image/jpeg", quality)


def jpeg_size(pixels: Pixels, quality: int = JPEG_QUALITY) -> int:
    """About the bytes of a picture as a JPEG, from tiles spread over it: blocks of 8 x 8 pixels
    are coded nearly apart from each other (ITU-T T.81).
    """
    height, width = pixels.shape[:2]
    if height <= TILES * TILE or width <= TILES * TILE:
        return len(as_jpeg(pixels, quality))
    rows, columns = (
        [int(k) // 8 * 8 for k in np.linspace(0, n - TILE, TILES)] for n in (height, width)
    )
    tiles = [[pixels[y : y + TILE, x : x + TILE] for x in columns] for y in rows]
    sample = np.concatenate([np.concatenate(row, 1) for row in tiles])
    return round(len(as_jpeg(sample, quality)) * height * width / (TILES * TILE) ** 2)


def to_bytes(pixels: Pixels) -> Pixels:
    """8-bit codes of 8 or 16-bit ones, rounded."""
    if pixels.dtype == np.uint8:
        return pixels
    return ((pixels.astype(np.uint32) * 255 + 32767) // 65535).astype(np.uint8)


def constant_of(pixels: Pixels) -> list[float] | None:
    """The one value of each channel, 0 to 1; None for a picture with more than one."""
    first = pixels[0, 0]
    for part in (pixels[::61, ::61], pixels):
        if (part != first).any():
            return None
    return [float(x) / np.iinfo(pixels.dtype).max for x in first]


def used_channels(pixels: Pixels, near: int = 0) -> tuple[int, list[str]]:
    """How many channels would hold the same, and why:

    three alike are one, an alpha that is solid everywhere is none.
    """
    count = pixels.shape[2]
    why = []
    colours, alpha = (count, 0) if count in (1, 3) else (count - 1, 1)
    if alpha and (pixels[..., -1] == np.iinfo(pixels.dtype).max).all():
        alpha = 0
        why.append("alpha solid everywhere")
    if colours == 3 and _alike(pixels, near):
        colours = 1
        why.append("grey in three channels")
    return colours + alpha, why


def _alike(pixels: Pixels, near: int) -> bool:
    # A coarse look first: most pictures are not grey, and show it at once.
    for part in (pixels[::61, ::61], pixels):
        r, g, b = (part[..., k] for k in range(3))
        for x, y in ((r, g), (g, b)):
            if int((np.maximum(x, y) - np.minimum(x, y)).max(initial=0)) > near:
                return False
    return True


def used_bits(pixels: Pixels) -> int:
    """8 where every 16-bit value is an 8-bit one spread out (times 257) or shifted up (times 256);
    else what is stored.
    """
    if pixels.dtype != np.uint16:
        return 8
    for part in (pixels[::61, ::61], pixels):
        high, low = part >> 8, part & 255
        if not ((low == high).all() or (low == 0).all()):
            return 16
    return 8
