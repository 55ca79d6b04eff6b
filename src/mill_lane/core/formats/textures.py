"""Picture files as the images of a scene:

PNG and JPEG as they are, other kinds turned into PNG once.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenImageIO as oiio

from mill_lane.core.formats import basis
from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.pictures import (
    LARGEST_SIDE,
    encode,
    forget_error,
    read_header,
    read_pixels,
    too_large,
    unreadable,
)
from mill_lane.core.image.srgb import from_linear
from mill_lane.core.scene.model import Image, Note

KINDS = {
    "tiff": "TIFF",
    "bmp": "BMP",
    "targa": "TGA",
    "hdr": "HDR",
    "openexr": "EXR",
    "webp": "WebP",
}


def image_of(blob: Blob, name: str) -> Image:
    """An image whose encoded bytes, PNG or JPEG, are `blob`; only its header is read."""
    # A JPEG may carry a long preamble (a colour profile, a thumbnail) before its size.
    head = blob.read(0, min(blob.length, 65536))
    if bytes(head[:2]) == b"\xff\xd8" and blob.length > 65536:
        head = blob.read(0, min(blob.length, 1 << 22))
    h = read_header(head, name)
    return Image(name, h.mime, h.width, h.height, h.channels, h.bits, blob.length, blob.read)


UNREAD = {
    b"\xabKTX 20\xbb": ("image/ktx2", "KTX2"),
    b"DDS ": ("image/vnd-ms.dds", "DDS"),
    b"\0\0\0 ftypavif": ("image/avif", "AVIF"),
}


def kept_image(blob: Blob, name: str) -> Image | None:
    """An image of a kind that is not decoded: drawn in grey, kept as it is; None for others."""
    head = bytes(blob.read(0, min(blob.length, 4096)))
    if basis.header_of(head) is not None:
        return None
    for start, (mime, _) in UNREAD.items():
        if head.startswith(start):
            return Image(name, mime, 1, 1, 3, 8, blob.length, blob.read, missing=True)
    return None


def missing_image(name: str, notes: list[Note]) -> Image:
    """A stand-in for a picture that is not there."""
    notes.append(
        Note(
            "texture_missing",
            "lost",
            f"The texture file “{name}” is missing: it is drawn in neutral grey.",
        )
    )

    def no_bytes() -> bytes:
        raise FileNotFoundError(name)

    return Image(name, "image/png", 1, 1, 3, 8, 0, no_bytes, missing=True)


def grey_png() -> bytes:
    """What stands in a written file for a picture that is missing."""
    return encode(np.full((1, 1, 3), 188, np.uint8), "image/png")


def file_image(path: Path, name: str, notes: list[Note]) -> Image:
    """The image of a picture file of any kind that is read.

    Raises MillError for what is no picture, or too large to be decoded.
    """
    with path.open("rb") as f:
        start = f.read(8)
    if start == b"\x89PNG\r\n\x1a\n" or start[:2] == b"\xff\xd8":
        return image_of(Blob.file(path), name)
    source = oiio.ImageInput.open(str(path))
    if source is None:
        forget_error(oiio)
        raise unreadable(name)
    try:
        spec, kind = source.spec(), KINDS.get(source.format_name())
    finally:
        source.close()
    if kind is None:
        raise unreadable(name)
    if spec.width > LARGEST_SIDE or spec.height > LARGEST_SIDE or spec.depth > 1:
        raise too_large(name, f"{spec.width} x {spec.height} pixels")
    pixels = read_pixels(path, name)[..., :4]
    if pixels.dtype not in (np.uint8, np.uint16):
        notes.append(
            Note(
                "texture_cut_off",
                "lost",
                f"“{name}” is {kind} with light brighter than white; as a texture it is cut "
                "off at white.",
            )
        )
        pixels = np.nan_to_num(np.clip(pixels, 0.0, 1.0))
        colours = min(pixels.shape[2], 3)
        pixels[..., :colours] = from_linear(pixels[..., :colours])
        pixels = np.round(pixels * 65535).astype(np.uint16)
    else:
        notes.append(
            Note(
                "texture_converted",
                "kept",
                f"“{name}” was turned from {kind} into PNG, pixel for pixel.",
            )
        )
    data = encode(pixels, "image/png")
    height, width, channels = pixels.shape
    return Image(
        name,
        "image/png",
        width,
        height,
        channels,
        pixels.dtype.itemsize * 8,
        len(data),
        lambda: data,
    )
