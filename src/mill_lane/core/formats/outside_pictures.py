"""Pictures that were rendered elsewhere, as linear light."""

from __future__ import annotations

import functools
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import Names, read_planes, write_exr
from mill_lane.core.formats.pictures import forget_error, picture_input, write_pixels
from mill_lane.core.image.noise import error_of_one, error_of_two, summarise
from mill_lane.core.image.srgb import luminance, to_linear, view

ENDINGS = (".png", ".jpg", ".jpeg", ".webp", ".tif", ".tiff", ".exr", ".hdr")
KINDS = ("png", "jpeg", "webp", "tiff", "openexr", "hdr")
MOST_PIXELS = 40_000_000  # 7680 x 4320 is 33 million
LEAST_SIDE = 8
COLOURS = ("R", "G", "B")


def read_outside(path: Path, name: str) -> NDArray[np.float32]:
    """Read a picture.

    Parameters
    ----------
    path : Path
    name : str
        For messages.

    Returns
    -------
    array of float32, (H, W, 3)
        Linear light; integers are decoded by sRGB (IEC 61966-2-1).  What is no number, or below 0,
        is 0.

    Raises
    ------
    MillError
        For what is no picture of these kinds, is damaged, too large or too small.
    """
    with picture_input(path, functools.partial(_refused, name)) as source:
        spec = source.spec()
        if source.format_name() not in KINDS:
            raise _refused(name, f"it is a picture of another kind ({source.format_name()})")
        if spec.width * spec.height > MOST_PIXELS or spec.depth > 1:
            raise _refused(name, f"it is too large ({spec.width} x {spec.height} pixels)")
        if min(spec.width, spec.height) < LEAST_SIDE:
            raise _refused(name, f"it is too small ({spec.width} x {spec.height} pixels)")
        channels = colour_channels(list(spec.channelnames))
        first, last = min(channels), max(channels) + 1
        pixels = source.read_image(0, 0, first, last, oiio.FLOAT)
        if pixels is None or source.has_error:
            forget_error(source)
            raise _refused(name, "it is damaged")
        linear = spec.format.basetype in (oiio.HALF, oiio.FLOAT, oiio.DOUBLE)
    pixels = np.asarray(pixels, np.float32).reshape(spec.height, spec.width, last - first)
    light = pixels[..., [c - first for c in channels]]
    if not linear:
        light = to_linear(light).astype(np.float32)
    np.nan_to_num(light, copy=False, nan=0.0, posinf=0.0, neginf=0.0)
    return np.maximum(light, np.float32(0.0), out=light)


def looked_over(path: Path, name: str, exr: Path, png: Path, names: Names) -> dict[str, Any]:
    """Read a picture, write it as this program keeps pictures, and measure it.

    Parameters
    ----------
    path : Path
    name : str
        For messages.
    exr, png : Path
        Where its linear light goes, and what is shown of it.
    names : mapping
        Of the channels in the EXR.

    Returns
    -------
    dict
        Its size, mean luminance and noise; the noise is estimated.
    """
    light = read_outside(path, name)
    luma = luminance(light)
    noise = summarise(error_of_one(luma))
    write_exr(exr, {"beauty": light}, names=names, half=True)
    write_pixels(png, view(light))
    return {
        "size": (light.shape[1], light.shape[0]),
        "mean_luminance": float(luma.mean()),
        "noise": noise.rms,
        "noise_p95": noise.p95,
    }


def compared(path: Path, name: str, kept: Path, names: Names) -> dict[str, Any]:
    """Measure the noise from a second picture of the same view, beside the one that is kept.

    Raises
    ------
    MillError
        For a picture of another size, and for the same once more.
    """
    planes = read_planes(kept)
    first = np.stack([planes[n] for n in names["beauty"]], -1)
    second = read_outside(path, name)
    if second.shape != first.shape:
        raise MillError(
            f"“{name}” has {second.shape[1]} x {second.shape[0]} pixels, the first picture "
            f"{first.shape[1]} x {first.shape[0]}.",
            "Render the same view again at the same size, with another seed.",
            "The noise stays as it was estimated.",
        )
    second = second.astype(np.float16).astype(np.float32)  # as the first was kept
    if np.array_equal(first, second):
        raise MillError(
            f"“{name}” is the same picture once more.",
            "Render the same view again with another seed: what differs is the noise.",
            "The noise stays as it was estimated.",
        )
    noise = summarise(error_of_two(luminance(first), luminance(second)))
    return {"noise": noise.rms, "noise_p95": noise.p95, "noise_measured": True}


def colour_channels(names: list[str]) -> list[int]:
    """Where red, green and blue are among the channels of a file.

    Those without a layer go first, then those of the first layer that has all three; a picture of
    one channel is grey.
    """
    plain = {n: i for i, n in enumerate(names)}
    if all(c in plain for c in COLOURS):
        return [plain[c] for c in COLOURS]
    for n in names:
        layer, dot, last = n.rpartition(".")
        if dot and last.upper() == "R":
            found = [i for c in COLOURS for i, m in enumerate(names) if _is(m, layer, c)]
            if len(found) == len(COLOURS):
                return found
    return [0, 0, 0] if len(names) < len(COLOURS) else [0, 1, 2]


def _is(name: str, layer: str, colour: str) -> bool:
    return name.rpartition(".")[0] == layer and name.rpartition(".")[2].upper() == colour


def _refused(name: str, why: str) -> MillError:
    return MillError(
        f"“{name}” is no picture for the trial book: {why}.",
        "Save it as PNG, JPEG, TIFF or EXR, at most 40 million pixels.",
        "The trial book stays as it was.",
    )
