"""Encoded pictures: what their header says, and reading and writing their pixels.

Pixels are read with OpenImageIO, which keeps 16 bits where the file has them.
"""

from __future__ import annotations

import contextlib
import io
import struct
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray
from PIL import Image as Pillow

from mill_lane.core.disk import check_disk
from mill_lane.core.errors import MillError
from mill_lane.core.formats import basis
from mill_lane.core.names import short_name

LARGEST_SIDE = 16384
THUMBNAIL_SIZE = (160, 120)
ENDINGS = {"image/png": ".png", "image/jpeg": ".jpg", "image/webp": ".webp", basis.MIME: ".ktx2"}
Pixels = NDArray[Any]


@dataclass(frozen=True)
class Header:
    """What the header of a picture says, before a pixel is decoded."""

    mime: str
    width: int
    height: int
    channels: int
    bits: int


def read_header(data: bytes, name: str) -> Header:
    """Size, channels and bits of a PNG, JPEG, WebP or Basis texture from its first bytes; no pixel
    is decoded.

    Raises MillError for anything else, for a damaged header, and for a picture with a side above
    `LARGEST_SIDE`.
    """
    data = bytes(data)
    if data[:8] == b"\x89PNG\r\n\x1a\n" and len(data) >= 29 and data[12:16] == b"IHDR":
        # PNG (ISO/IEC 15948), 11.2.2: width, height, bit depth, colour type.
        width, height, bits, colour = struct.unpack(">IIBB", data[16:26])
        channels = {0: 1, 2: 3, 3: 3, 4: 2, 6: 4}.get(colour, 0)
        if colour == 3 and b"tRNS" in data[:65536]:
            channels = 4
        header = Header("image/png", width, height, channels, max(8, bits))
    elif data[:2] == b"\xff\xd8":
        try:
            with Pillow.open(io.BytesIO(data), formats=["JPEG"]) as picture:
                header = Header("image/jpeg", *picture.size, len(picture.getbands()), 8)
        except Pillow.DecompressionBombError as e:
            raise too_large(name, str(e)) from e
        except (OSError, SyntaxError, ValueError) as e:
            raise unreadable(name) from e
    elif data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        header = _webp_header(data, name)
    elif (found := basis.header_of(data)) is not None:
        header = Header(basis.MIME, *found, 8)
    else:
        raise unreadable(name)
    if header.width > LARGEST_SIDE or header.height > LARGEST_SIDE:
        raise too_large(name, f"{header.width} x {header.height} pixels")
    if not (header.width and header.height and header.channels):
        raise unreadable(name)
    return header


def _webp_header(data: bytes, name: str) -> Header:
    """Size and channels of a WebP picture (RFC 9649, sections 2.5 to 2.7)."""
    kind = data[12:16]
    if kind == b"VP8X" and len(data) >= 30:
        width, height = (1 + int.from_bytes(data[k : k + 3], "little") for k in (24, 27))
        return Header("image/webp", width, height, 4 if data[20] & 0x10 else 3, 8)
    if kind == b"VP8L" and len(data) >= 25:
        bits = int.from_bytes(data[21:25], "little")
        width, height = 1 + (bits & 0x3FFF), 1 + (bits >> 14 & 0x3FFF)
        return Header("image/webp", width, height, 4 if bits >> 28 & 1 else 3, 8)
    if kind == b"VP8 " and len(data) >= 30:
        width, height = (int.from_bytes(data[k : k + 2], "little") & 0x3FFF for k in (26, 28))
        return Header("image/webp", width, height, 3, 8)
    raise unreadable(name)


def too_large(name: str, what: str) -> MillError:
    """The error for a picture that nobody should decode."""
    return MillError(
        f"The texture “{name}” is too large: {what}. The largest side read is {LARGEST_SIDE} "
        "pixels.",
        "Save it smaller in the scene and open the scene again.",
        "It was not decoded and nothing was imported.",
    )


def unreadable(name: str) -> MillError:
    """The error for a picture that cannot be decoded."""
    return MillError(
        f"The texture “{name}” is not a PNG, JPEG or WebP picture that can be read.",
        "Save it again as PNG or JPEG, and export the scene again.",
    )


def decode(data: bytes, mime: str, name: str = "picture") -> Pixels:
    """Decode a picture, without a conversion of its colours.

    Parameters
    ----------
    data : bytes
    mime : str
    name : str
        For messages.

    Returns
    -------
    array of uint8 or uint16, (H, W, channels)

    Raises
    ------
    MillError
        When the file is damaged.
    """
    channels = 4
    if mime == basis.MIME:
        found = basis.header_of(data)
        try:
            data, mime = basis.as_png(data), "image/png"
        except ValueError as e:
            raise unreadable(name) from e
        channels = found[2] if found else channels
    # OpenImageIO's Python binding reads files only, so the bytes go through one, which hardly ever
    # reaches the disk.
    with tempfile.NamedTemporaryFile(suffix=ENDINGS.get(mime, ".png")) as f:
        f.write(data)
        f.flush()
        return np.ascontiguousarray(read_pixels(Path(f.name), name)[..., :channels])


def read_pixels(path: Path, name: str = "picture") -> Pixels:
    """The pixels of a picture file as stored, (height, width, channels)."""
    config = oiio.ImageSpec()
    config.attribute(
        "oiio:UnassociatedAlpha", 1
    )  # glTF wants colours as stored, not multiplied by alpha
    source = oiio.ImageInput.open(str(path), config)
    if source is None:
        forget_error(oiio)
        raise unreadable(name)
    try:
        spec = source.spec()
        wanted = oiio.UINT16 if spec.format == oiio.UINT16 else oiio.UINT8
        if spec.format.basetype in (oiio.HALF, oiio.FLOAT):
            wanted = oiio.FLOAT
        pixels = source.read_image(wanted)
        if pixels is None or source.has_error:
            forget_error(source)
            raise unreadable(name)
    finally:
        source.close()
    return pixels[..., None] if pixels.ndim == 2 else pixels


def forget_error(source: Any) -> None:
    """Take the library's message away, or it is printed later; from a damaged file it may not even
    be text.
    """
    with contextlib.suppress(UnicodeDecodeError):
        source.geterror()


def write_pixels(path: Path, pixels: Pixels, quality: int = 92) -> None:
    """Write uint8 or uint16 (height, width, channels) as PNG or JPEG, by the path's ending.

    Raises MillError when it cannot be written, and OSError when the disk is full.
    """
    pixels = np.ascontiguousarray(pixels)
    height, width, channels = pixels.shape
    spec = oiio.ImageSpec(width, height, channels, str(pixels.dtype))
    spec.attribute("oiio:UnassociatedAlpha", 1)
    spec.attribute("png:compressionLevel", 1)
    spec.attribute("compression", f"jpeg:{quality}")
    out = oiio.ImageOutput.create(str(path))
    begun = out is not None and out.open(str(path), spec)
    # The library says nothing of a file that found no room: its end tells.
    written = out is not None and begun and out.write_image(pixels) and out.close()
    if not written or not _ends_whole(path):
        forget_error(oiio)
        check_disk(path)
        raise MillError(f"{path.name} could not be written.", "Check the disk and try again.")


def _ends_whole(path: Path) -> bool:
    """Whether a PNG or JPEG has its last piece (ISO/IEC 15948, 11.2.5; ITU-T T.81, B.1.1.3)."""
    with path.open("rb") as f:
        f.seek(-min(12, path.stat().st_size), 2)
        end = f.read()
    return end[4:8] == b"IEND" or end[-2:] == b"\xff\xd9"


def encode(pixels: Pixels, mime: str, quality: int = 92) -> bytes:
    """Encode a picture.

    Parameters
    ----------
    pixels : array of uint8 or uint16, (H, W, channels)
    mime : str
        PNG (8 or 16 bits), JPEG or WebP (8 bits).
    quality : int
        Of a JPEG or a WebP.

    Returns
    -------
    bytes
    """
    if mime == "image/webp":
        out = io.BytesIO()
        Pillow.fromarray(np.ascontiguousarray(pixels)).save(out, "WEBP", quality=quality)
        return out.getvalue()
    with tempfile.NamedTemporaryFile(suffix=ENDINGS[mime]) as f:
        write_pixels(Path(f.name), pixels, quality)
        return Path(f.name).read_bytes()


def quick_png(pixels: NDArray[np.uint8], level: int = 1) -> bytes:
    """A PNG that is looked at once: quickly made, not small.

    Parameters
    ----------
    pixels : uint8 (H, W) or (H, W, 3)
    level : int
        Of compression, 0 for none.
    """
    out = io.BytesIO()
    Pillow.fromarray(np.ascontiguousarray(pixels)).save(out, "PNG", compress_level=level)
    return out.getvalue()


def picture_name(name: str, endings: tuple[str, ...], hint: str, kept: str) -> str:
    """The name of a file fit to be shown, if it has one of these endings.

    Raises MillError with that hint, and with what was kept, for another ending.
    """
    short = short_name(name, "picture")
    if not short.lower().endswith(endings):
        raise MillError(f"“{short}” is no {', '.join(endings)}.", hint, kept)
    return short


@contextlib.contextmanager
def picture_input(path: Path, refused: Callable[[str], MillError]) -> Iterator[oiio.ImageInput]:
    """A picture's header, and its pixels for whoever reads them; shut afterwards.

    Raises what `refused` makes of the reason, where it cannot be opened.
    """
    source = oiio.ImageInput.open(str(path))
    if source is None:
        forget_error(oiio)
        raise refused("it cannot be read")
    try:
        yield source
    finally:
        source.close()


def small_jpeg(picture: Path) -> bytes:
    """A JPEG of at most 160 x 120 pixels of an 8-bit picture."""
    out = io.BytesIO()
    _small(picture).convert("RGB").save(out, "JPEG", quality=85)
    return out.getvalue()


def write_thumbnail(picture: Path, folder: Path) -> Path:
    """Write a picture of at most 160 x 120 pixels of an 8-bit one into a folder; where it lies."""
    small = folder / "thumbnail.png"
    _small(picture).save(small)
    return small


def _small(picture: Path) -> Pillow.Image:
    with Pillow.open(picture) as whole:
        whole.thumbnail(THUMBNAIL_SIZE)
        return whole.copy()
