"""Samples of another frame brought to where the same things are in this one.

Along the film's motion, to the nearest pixel: values between pixels would mix noise and could not
be told from detail.  What is hidden in the other frame is found by object, position, depth and
normal.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise.noisy import Noisy
from mill_lane.core.denoise.notes import Notes
from mill_lane.core.denoise.regression import Given

F32 = NDArray[np.float32]
Layers = Mapping[str, F32]
FARTHEST = 256  # rows of motion that are followed
SAME_DEPTH, SAME_PLACE = 0.1, 0.02  # of the depth, within which two pixels show one thing
SAME_NORMAL = 0.8  # cosine
TURNS = 3  # in which the way back is found


@dataclass(frozen=True, eq=False)
class Reached:
    """Another frame's halves, variance and guides (planes first), and where they hold (H, W)."""

    halves: tuple[F32, F32]
    variance: F32
    guides: F32
    there: F32

    def given(self, half: int, rows: slice) -> Given:
        """What it gives to the smoothing of a half."""
        cut = (slice(None), rows)
        values, by = self.halves[half], self.halves[1 - half]
        return Given(values[cut], by[cut], self.variance[cut], self.guides[cut], self.there[rows])


def reach_of(layers: Layers, notes: Notes) -> int:
    """How many rows up and down things move until the next frame."""
    if "motion" not in layers:
        notes.say("no motion: other frames count where nothing moves")
        return 0
    rows = np.nan_to_num(layers["motion"][..., 1], posinf=0.0, neginf=0.0)
    return min(math.ceil(float(np.abs(rows).max(initial=0.0))) + 1, FARTHEST)


def brought(layers: Layers, theirs: Layers, known: Noisy, step: int, above: int) -> Reached:
    """Bring a frame over.

    Parameters
    ----------
    layers, theirs : mapping
        This frame's rows, and the other's.
    known : Noisy
        The other frame's rows, made ready.
    step : int
        Frames from this one to the other.
    above : int
        Rows from this frame's first one to the other's first one; below 0 where theirs begin
        higher up.
    """
    y, x, inside = _places(layers, theirs, step, above)
    same = inside & _same(layers, theirs, y, x)
    a, b = (np.ascontiguousarray(h[:, y, x]) for h in known.halves)
    return Reached(
        (a, b),
        np.ascontiguousarray(known.variance[:, y, x]),
        np.ascontiguousarray(known.guides[:, y, x]),
        same.astype(np.float32),
    )


def _places(
    layers: Layers, theirs: Layers, step: int, above: int
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]:
    """Row and column in the other frame's rows of each pixel, and whether they are there."""
    height, width = layers["beauty"].shape[:2]
    rows, columns = len(theirs["beauty"]), theirs["beauty"].shape[1]
    py, px = np.mgrid[:height, :width].astype(np.float32)
    py -= np.float32(above)

    def held(y: F32, x: F32) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        return (
            np.clip(np.rint(y), 0, rows - 1).astype(np.int64),
            np.clip(np.rint(x), 0, columns - 1).astype(np.int64),
        )

    qy, qx = py, px
    certain = np.ones((height, width), bool)
    if "motion" in layers and "motion" in theirs:
        motion = np.nan_to_num(np.asarray(layers["motion"], np.float32), posinf=0.0, neginf=0.0)
        qx, qy = px + step * motion[..., 0], py + step * motion[..., 1]
        if step < 0:
            # The other frame tells where its things went: look for those that came here.
            back = np.nan_to_num(np.asarray(theirs["motion"], np.float32), posinf=0.0, neginf=0.0)
            for _ in range(TURNS):
                there = back[held(qy, qx)]
                qx, qy = px + step * there[..., 0], py + step * there[..., 1]
            came = back[held(qy, qx)]
            miss = np.hypot(qx - step * came[..., 0] - px, qy - step * came[..., 1] - py)
            certain = miss <= 1.0
    y, x = held(qy, qx)
    inside = (qy > -0.5) & (qy < rows - 0.5) & (qx > -0.5) & (qx < columns - 0.5)
    return y, x, inside & certain


def _same(
    layers: Layers, theirs: Layers, y: NDArray[np.int64], x: NDArray[np.int64]
) -> NDArray[np.bool_]:
    """Whether pixels show the same thing."""
    same = np.ones(y.shape, bool)

    def pair(name: str) -> tuple[F32, F32] | None:
        if name not in layers or name not in theirs:
            return None
        return np.asarray(layers[name]), np.asarray(theirs[name])[y, x]

    with np.errstate(invalid="ignore", over="ignore"):
        if depths := pair("depth"):
            far = depths[0].reshape(y.shape)
            apart = np.abs(far - depths[1].reshape(y.shape))
            same &= (apart <= SAME_DEPTH * far) | (far == depths[1].reshape(y.shape))
        if objects := pair("object"):
            same &= objects[0].reshape(y.shape) == objects[1].reshape(y.shape)
        elif (positions := pair("position")) and depths:
            apart = np.linalg.norm(positions[0] - positions[1], axis=-1)
            same &= apart <= SAME_PLACE * depths[0].reshape(y.shape) + 1e-6
        if normals := pair("normal"):
            same &= ((normals[0] * normals[1]).sum(-1) >= SAME_NORMAL) | (
                np.abs(normals[0]).sum(-1) < 1e-3
            )
    return same


def shimmer(frames: list[F32], motions: list[F32], kept: list[NDArray[np.bool_]]) -> float:
    """How much what should stand still changes from frame to frame, along the motion.

    Parameters
    ----------
    frames : list of float32 arrays (H, W, C)
        One after another, over the colours of surfaces where those are known.
    motions : list of float32 arrays (H, W, 2)
        Pixels right and down to the next frame, one less than the frames.
    kept : list of bool arrays (H, W)
        Which pixels are seen in the next frame, too.

    Returns
    -------
    float
        Variance over time, relative to the squared brightness: half of the mean squared change.
    """
    changed, bright, count = 0.0, 0.0, 0
    for frame, following, motion, seen in zip(frames, frames[1:], motions, kept, strict=False):
        height, width = frame.shape[:2]
        py, px = np.mgrid[:height, :width].astype(np.float64)
        qy, qx = py + motion[..., 1], px + motion[..., 0]
        inside = seen & (qy >= 0) & (qy <= height - 1) & (qx >= 0) & (qx <= width - 1)
        y0 = np.clip(np.floor(qy), 0, height - 2).astype(np.int64)
        x0 = np.clip(np.floor(qx), 0, width - 2).astype(np.int64)
        fy, fx = (qy - y0)[..., None], (qx - x0)[..., None]
        rows = [following[y0 + j, x0] * (1 - fx) + following[y0 + j, x0 + 1] * fx for j in range(2)]
        apart = (rows[0] * (1 - fy) + rows[1] * fy - frame)[inside]
        changed += float((apart**2).sum()) / 2
        bright += float((frame[inside].astype(np.float64) ** 2).sum())
        count += int(inside.sum())
    return changed / bright if count and bright > 0 else 0.0


def seen_next(layers: Layers, following: Layers) -> NDArray[np.bool_]:
    """Which pixels (H, W) of a frame show what is seen in the next one, too."""
    y, x, inside = _places(layers, following, 1, 0)
    return inside & _same(layers, following, y, x)
