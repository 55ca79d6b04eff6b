"""Pictures of the sky: what a recipe asks for, and what a scene brings on its dome."""

from __future__ import annotations

import functools
import tempfile
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.pictures import LARGEST_SIDE, forget_error, picture_input, too_large
from mill_lane.core.image.srgb import to_linear
from mill_lane.core.scene.surroundings import SkyPicture

SKY_ENDINGS = (".hdr", ".exr")
WIDEST_SKY = 8192


def read_sky(path: Path, name: str = "") -> NDArray[np.float32]:
    """A sky picture, longitude over latitude, linear light: float32 (height, width, 3).

    Raises MillError for anything but an HDR or EXR picture twice as wide as high.  What is no
    number, or below 0, counts as no light.
    """
    name = name or path.name
    with picture_input(path, functools.partial(_no_sky, name)) as source:
        spec = source.spec()
        if source.format_name() not in ("hdr", "openexr") or spec.format.basetype not in (
            oiio.HALF,
            oiio.FLOAT,
        ):
            raise _no_sky(name, "it holds no high dynamic range")
        if spec.width > WIDEST_SKY or spec.height > WIDEST_SKY // 2:
            raise _no_sky(
                name,
                f"it is too large ({spec.width} x {spec.height} pixels, at most {WIDEST_SKY} wide)",
            )
        if spec.nchannels < 3 or abs(spec.width - 2 * spec.height) > 2:
            raise _no_sky(
                name, f"it has {spec.width} x {spec.height} pixels and {spec.nchannels} channels"
            )
        pixels = source.read_image(0, 0, 0, 3, oiio.FLOAT)
        if pixels is None or source.has_error:
            forget_error(source)
            raise _no_sky(name, "it is damaged")
    return _as_light(pixels)


def sky_size(path: Path, name: str = "") -> tuple[int, int]:
    """Width and height of a sky picture, all of which is read; see `read_sky`."""
    height, width, _ = read_sky(path, name).shape
    return width, height


def dome_picture(path: Path, name: str) -> SkyPicture:
    """The picture of a dome, whose pixels are not read yet.

    Any kind of picture will do, of any proportions: it is stretched over the sphere.  One that is
    wider than `WIDEST_SKY` is drawn smaller.  Raises MillError for what is no picture.
    """
    with picture_input(path, functools.partial(_no_sky, name)) as source:
        spec = source.spec()
        width, height = int(spec.width), int(spec.height)
    if max(width, height) > LARGEST_SIDE or min(width, height) < 1:
        raise too_large(name, f"{width} x {height} pixels")
    smaller = max(1, -(-width // WIDEST_SKY), -(-height // (WIDEST_SKY // 2)))
    data = Blob.file(path)
    return SkyPicture(
        name, max(1, width // smaller), max(1, height // smaller), data.length, data.read
    )


def dome_pixels(picture: SkyPicture) -> NDArray[np.float32]:
    """What a dome's picture shows, linear light: float32 (height, width, 3), as it was sent.

    Raises MillError where it is damaged.
    """
    with tempfile.NamedTemporaryFile(suffix=Path(picture.name).suffix) as f:
        f.write(picture.read())
        f.flush()
        image = oiio.ImageBuf(f.name)
        if image.has_error:
            image.geterror()
            raise _no_sky(picture.name, "it is damaged")
        spec = image.spec()
        linear = spec.format.basetype in (oiio.HALF, oiio.FLOAT)
        if (spec.width, spec.height) != (picture.width, picture.height):
            # As a mean of what is below, so that a small sun keeps its light.
            image = oiio.ImageBufAlgo.resize(
                image, "box", 0.0, oiio.ROI(0, picture.width, 0, picture.height)
            )
        pixels = image.get_pixels(oiio.FLOAT)
    if pixels is None or image.has_error:
        image.geterror()
        raise _no_sky(picture.name, "it is damaged")
    pixels = np.asarray(pixels, np.float32).reshape(picture.height, picture.width, -1)
    pixels = pixels[..., :3] if pixels.shape[2] >= 3 else np.repeat(pixels[..., :1], 3, 2)
    return _as_light(np.ascontiguousarray(pixels if linear else to_linear(pixels), np.float32))


def _as_light(pixels: NDArray[np.float32]) -> NDArray[np.float32]:
    """In place, since a sky is large: what is no number, or below 0, is no light."""
    np.nan_to_num(pixels, copy=False, nan=0.0, posinf=1e6, neginf=0.0)
    return np.maximum(pixels, np.float32(0.0), out=pixels)


def _no_sky(name: str, why: str) -> MillError:
    return MillError(
        f"“{name}” cannot be the sky: {why}.",
        "Use an HDR or EXR picture of the whole sphere, longitude over latitude, twice as wide as "
        "high.",
        "The sky stays as it was.",
    )
