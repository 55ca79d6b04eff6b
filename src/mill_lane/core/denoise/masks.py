"""Masks: of how much of the clean picture each pixel gets."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise.names import MASKS, OBJECTS, PICTURE
from mill_lane.core.denoise.prefilter import box_mean
from mill_lane.core.errors import MillError
from mill_lane.core.image.srgb import luminance

F32 = NDArray[np.float32]
MIDDLE = 0.18  # middle grey: what is half as bright is dark, what is twice as bright is not
QUIET, NOISY = 0.02, 0.1  # relative noise of a pixel from which on, and from which on fully


@dataclass(frozen=True, eq=False)
class Where:
    """A mask as it is wanted: a name of `names.MASKS` or `names.PICKED`, the numbers of the
    objects that were picked, the picture (H, W) that was painted.
    """

    name: str = ""
    objects: frozenset[int] = frozenset()
    picture: F32 | None = None


def made(where: Where, clean: F32, noise: F32 | None, numbers: F32 | None) -> F32 | None:
    """Make the mask (H, W) of a picture; None for everywhere.

    Parameters
    ----------
    where : Where
    clean, noise
        As `named` takes them.
    numbers : float32 array (H, W) or None
        The film's numbers of objects.

    Raises
    ------
    MillError
        Where the picture has no such mask.
    """
    if where.name == OBJECTS:
        if numbers is None:
            raise MillError(
                "The picture has no layer “object”.",
                "Paint the mask, or denoise the trial again.",
            )
        return chosen_objects(numbers, where.objects)
    if where.name == PICTURE:
        if where.picture is None:
            raise MillError("No mask was painted or loaded.", "Paint one over the picture.")
        check_size(where.picture, clean)
        return where.picture
    return named(where.name, clean, noise)


def check_size(mask: F32, picture: F32) -> None:
    """Refuse a mask (H, W) that is not of a picture's size.  Raises MillError."""
    if mask.shape != picture.shape[:2]:
        raise MillError(
            f"The mask is {mask.shape[1]} pixels wide and {mask.shape[0]} high, the picture "
            f"{picture.shape[1]} and {picture.shape[0]}.",
            "Paint it over the picture in its own size.",
        )


def named(name: str, clean: F32, noise: F32 | None) -> F32 | None:
    """The mask of a name of `names.MASKS`; None for everywhere.

    clean : the clean picture (H, W, 3).  noise : what `noisy_parts` gave, None where nothing told
    it.

    Raises
    ------
    MillError
        For the noise where nothing tells it, or a name that is none.
    """
    if name == "dark":
        return dark_parts(clean)
    if name == "noise":
        if noise is None:
            raise MillError("Without halves the noise has no map.", "Choose another mask.")
        return noise
    if name:
        others = ", ".join(filter(None, MASKS))
        raise MillError(f"There is no mask “{name}”.", f"Choose from {others}.")
    return None


def dark_parts(picture: F32) -> F32:
    """1 where a picture (H, W, 3) is dark, 0 where it is bright, in stops between."""
    luma = np.maximum(luminance(picture), 1e-9)
    return np.clip((1 - np.log2(luma / MIDDLE)) / 2, 0, 1).astype(np.float32)


def noisy_parts(half_a: F32, half_b: F32) -> F32:
    """1 where the noise is strong, told by two halves (H, W, 3) over 5 x 5 pixels."""
    a, b = np.maximum(luminance(half_a), 0), np.maximum(luminance(half_b), 0)
    spread = box_mean((np.square(a - b) / np.float32(4))[None].astype(np.float32), 2)[0]
    bright = box_mean(((a + b) / 2)[None].astype(np.float32), 2)[0]
    noise = np.sqrt(spread) / (bright + 0.01)
    return np.clip((noise - QUIET) / (NOISY - QUIET), 0, 1).astype(np.float32)


def chosen_objects(numbers: F32, chosen: Collection[int]) -> F32:
    """1 on objects of the chosen numbers; `numbers` is the film's layer (H, W)."""
    found = np.isin(np.rint(np.nan_to_num(numbers)).astype(np.int64), list(chosen))
    return found.reshape(numbers.shape[:2]).astype(np.float32)


def shares_of(numbers: F32, most: int = 8) -> list[tuple[int, float]]:
    """Numbers of the objects that take most of a picture (H, W), and the share of it, in order."""
    found, counts = np.unique(np.rint(np.nan_to_num(numbers)).astype(np.int64), return_counts=True)
    order = np.argsort(-counts, kind="stable")
    shares = [(int(found[k]), float(counts[k] / numbers.size)) for k in order if found[k] > 0]
    return shares[:most]


def from_picture(pixels: NDArray[np.generic]) -> F32:
    """A painted or loaded picture (H, W, C) as a mask: white is 1, what is clear 0."""
    whole = np.atleast_3d(np.asarray(pixels))
    most = 1.0 if whole.dtype.kind == "f" else float(np.iinfo(whole.dtype).max)
    shares = whole.astype(np.float32) / np.float32(most)
    depth = shares.shape[2]
    grey = shares[..., :3].mean(-1) if depth >= 3 else shares[..., 0]
    if depth in (2, 4):
        grey = grey * shares[..., -1]
    return np.clip(np.nan_to_num(grey), 0, 1).astype(np.float32)
