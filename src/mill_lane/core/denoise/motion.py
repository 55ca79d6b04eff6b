"""How files tell motion: in which direction, upwards or downwards, in pixels or shares.

Renderers differ in it, and their files do not say.  Each way is tried: where the next frame is
looked up along the right one, it resembles this one most.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise.files import Wishes, open_source
from mill_lane.core.denoise.noisy import base_of
from mill_lane.core.denoise.notes import Notes
from mill_lane.core.formats.exr_rows import ExrRows

F32 = NDArray[np.float32]
Layers = Mapping[str, F32]
Scale = tuple[float, float]
OURS: Scale = (1.0, 1.0)  # pixels right and down to where a thing is in the next frame
MOST_ROWS = 256  # in the middle of the pictures
LEAST = 0.25  # pixels of motion, below which nothing is told by it
# Of the difference without, at most so much is left along the right motion; ours stands where it
# makes nothing worse and no other is better by as much.
BETTER, NO_WORSE = 0.95, 1.02


@dataclass(frozen=True)
class Convention:
    """What a file's motion is multiplied by, right and down, and what has to be told of it."""

    scale: Scale | None
    notes: tuple[str, ...] = ()


def convention_of_files(path: Path, following: Path, wishes: Wishes) -> Convention:
    """Find how two files of neighbouring frames tell motion; see `convention`."""
    with ExitStack() as opened:
        pair = [opened.enter_context(ExrRows(p)) for p in (path, following)]
        if (pair[0].height, pair[0].width) != (pair[1].height, pair[1].width):
            return Convention(OURS)
        height = pair[0].height
        top = max(0, (height - MOST_ROWS) // 2)
        rows = top, min(top + MOST_ROWS, height)
        here, there = (open_source(p, 0, wishes, Notes()).rows(*rows) for p in pair)
    return convention(here, there, height)


def convention(here: Layers, there: Layers, height: int) -> Convention:
    """Find how a frame's motion has to be read.

    Parameters
    ----------
    here, there : mapping
        Layers (H, W) or (H, W, C) of a frame and of the next, the same rows of both.
    height : int
        Of the whole picture.

    Returns
    -------
    Convention
        Its scale is None where no way of reading it makes the next frame resemble this one.
    """
    if "motion" not in here or here["beauty"].shape != there["beauty"].shape:
        return Convention(OURS)
    motion = np.nan_to_num(np.asarray(here["motion"], np.float32), posinf=0.0, neginf=0.0)
    width = motion.shape[1]
    ways = [OURS, *(way for way in _ways(width, height) if way != OURS)]
    scaled = {way: motion * np.asarray(way, np.float32) for way in ways}
    moved = [way for way in ways if np.abs(scaled[way]).max(initial=0.0) >= LEAST]
    if not moved:
        return Convention(OURS)
    left = {way: _left(here, there, scaled[way]) for way in moved}
    best = min(moved, key=lambda way: left[way])
    ours = left.get(OURS, float("inf"))
    if ours <= min(left[best] / BETTER, NO_WORSE):
        return Convention(OURS)
    if left[best] > BETTER:
        return Convention(None, ("its motion fits in no way of reading it, and is not used",))
    return Convention(best, (f"motion is read {_words(best, width, height)}",))


def _ways(width: int, height: int) -> list[Scale]:
    """Pixels, shares of the picture, shares from the middle to the edge; either way round."""
    sizes = [(1.0, 1.0), (float(width), float(height)), (width / 2, height / 2)]
    signs = itertools.product((1.0, -1.0), repeat=2)
    return [(a * x, b * y) for a, b in signs for x, y in sizes]


def _words(way: Scale, width: int, height: int) -> str:
    units = {1.0: "pixels", float(width): "pictures"}
    unit = units.get(abs(way[0]), "halves of a picture")
    across = "rightwards" if way[0] > 0 else "leftwards"
    return f"in {unit}, {across} and {'downwards' if way[1] > 0 else 'upwards'}"


def _left(here: Layers, there: Layers, motion: F32) -> float:
    """How much the next frame differs where things move, looked up along a motion: the share that
    is left of the difference without.
    """
    height, width = motion.shape[:2]
    py, px = np.mgrid[:height, :width]
    x = np.rint(px + motion[..., 0]).astype(np.int64)
    y = np.rint(py + motion[..., 1]).astype(np.int64)
    inside = (x >= 0) & (x < width) & (y >= 0) & (y < height)
    moving = inside & (np.abs(motion).max(-1) >= LEAST)
    if moving.sum() < inside.size // 100:
        return float("inf")
    # The colours of surfaces have no noise; without them the logarithm keeps dots from counting.
    name = "albedo" if "albedo" in here and "albedo" in there else "beauty"
    a, b = (np.log(base_of(np.asarray(layers[name], np.float32))) for layers in (here, there))
    along, standing = (
        float(np.abs(a[moving] - other).mean()) for other in (b[y[moving], x[moving]], b[moving])
    )
    return along / standing if standing > 0 else float(along > 0)
