"""Pictures that were rendered elsewhere, as linear light."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import HALF_MOST, Names, read_planes, write_exr
from mill_lane.core.formats.pictures import forget_error, picture_input, write_pixels
from mill_lane.core.image.noise import (
    BAND,
    WINDOW,
    by_bands,
    error_of_one,
    error_of_two,
    summarise,
)
from mill_lane.core.image.srgb import in_bands, luminance, to_linear, view

ENDINGS = (".png", ".jpg", ".jpeg", ".webp", ".tif", ".tiff", ".exr", ".hdr")
KINDS = ("png", "jpeg", "webp", "tiff", "openexr", "hdr")
MOST_PIXELS = 40_000_000  # 7680 x 4320 is 33 million
LEAST_SIDE = 8
COLOURS = ("R", "G", "B")
REACH = WINDOW // 2 + 1  # rows that `error_of_one` looks beyond a pixel


@dataclass(frozen=True, eq=False)
class Outside:
    """A picture from elsewhere.

    Attributes
    ----------
    light : array of float32, (h, w, 3)
        Linear light.
    size : (int, int)
        Width and height of the frame that it is a part of, or all of.
    region : (int, int, int, int)
        Where it lies in the frame: x0, y0, x1, y1.
    """

    light: NDArray[np.float32]
    size: tuple[int, int]
    region: tuple[int, int, int, int]


def read_outside(path: Path, name: str) -> Outside:
    """Read a picture: linear light, in the frame that its header tells.

    Integers are decoded by sRGB (IEC 61966-2-1).  What is no number, or below 0, is 0; what is
    brighter than 16 bits hold is the most that they do.

    Parameters
    ----------
    path : Path
    name : str
        For messages.

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
        integers = spec.format.basetype not in (oiio.HALF, oiio.FLOAT, oiio.DOUBLE)
    pixels = np.asarray(pixels, np.float32).reshape(spec.height, spec.width, last - first)
    light = np.empty((spec.height, spec.width, 3), np.float32)
    for rows in _bands(spec.height):
        part = pixels[rows][..., [c - first for c in channels]]
        part = np.nan_to_num(part, nan=0.0, posinf=HALF_MOST, neginf=0.0)
        light[rows] = np.clip(to_linear(part) if integers else part, 0.0, HALF_MOST)
    return Outside(light, *_placed(spec))


def _bands(height: int) -> list[slice]:
    """Rows of a picture, some at a time: what is worked out of them takes little memory."""
    return [slice(y, min(y + BAND, height)) for y in range(0, height, BAND)]


def _placed(spec: oiio.ImageSpec) -> tuple[tuple[int, int], tuple[int, int, int, int]]:
    """The frame's size, and where the picture lies in it: OpenEXR's display and data windows.

    One that reaches beyond its frame is all of it.
    """
    x, y = spec.x - spec.full_x, spec.y - spec.full_y
    within = x >= 0 and y >= 0
    within &= x + spec.width <= spec.full_width and y + spec.height <= spec.full_height
    if not within:
        return (spec.width, spec.height), (0, 0, spec.width, spec.height)
    return (spec.full_width, spec.full_height), (x, y, x + spec.width, y + spec.height)


def _luma(light: NDArray[np.float32]) -> NDArray[np.float32]:
    out = np.empty(light.shape[:2], np.float32)
    for rows in _bands(len(light)):
        out[rows] = luminance(light[rows])
    return out


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
        Size and region in pixels of the frame, mean luminance, and the noise, estimated.

    Raises
    ------
    MillError
        See `read_outside`.
    """
    picture = read_outside(path, name)
    luma = _luma(picture.light)
    noise = summarise(by_bands(error_of_one, luma, halo=REACH))
    write_exr(exr, {"beauty": picture.light}, names=names, half=True)
    write_pixels(png, in_bands(view, picture.light))
    return {
        "size": picture.size,
        "region": picture.region,
        "mean_luminance": float(luma.mean(dtype=np.float64)),
        "noise": noise.rms,
        "noise_p95": noise.p95,
    }


def compared(path: Path, name: str, kept: Path, names: Names) -> dict[str, Any]:
    """Measure the noise from a second picture of the same view, beside the one that is kept.

    Parameters
    ----------
    path : Path
    name : str
        For messages.
    kept : Path
        The EXR of the first, as `looked_over` wrote it.
    names : mapping
        Of its channels.

    Returns
    -------
    dict
        The noise of one of the two, measured.

    Raises
    ------
    MillError
        For a picture of another size, and for the same once more.
    """
    planes = read_planes(kept)
    first = np.stack([planes[n] for n in names["beauty"]], -1)
    second = read_outside(path, name).light
    if second.shape != first.shape:
        raise MillError(
            f"“{name}” has {second.shape[1]} x {second.shape[0]} pixels, the first picture "
            f"{first.shape[1]} x {first.shape[0]}.",
            "Render the same view again at the same size, with another seed.",
            "The noise stays as it was.",
        )
    if np.array_equal(first, second.astype(np.float16)):  # as the first was kept
        raise MillError(
            f"“{name}” is the same picture once more.",
            "Render the same view again with another seed: what differs is the noise.",
            "The noise stays as it was.",
        )
    noise = summarise(by_bands(error_of_two, _luma(first), _luma(second)))
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
