"""How much a sequence shimmers before and after denoising, told from its files."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise.bringing import seen_next, shimmer
from mill_lane.core.denoise.files import Wishes, open_source
from mill_lane.core.denoise.noisy import base_of
from mill_lane.core.denoise.notes import Notes
from mill_lane.core.denoise.strips import Layers
from mill_lane.core.formats.exr_rows import ExrRows

F32 = NDArray[np.float32]
MOST_ROWS = 512  # in the middle of the pictures
MOST_PAIRS = 8


def shimmer_of_files(
    frames: Sequence[tuple[int, Path, Path]], wishes: Wishes
) -> tuple[float, float] | None:
    """Measure shimmer over neighbouring frames.

    Parameters
    ----------
    frames : sequence of (int, Path, Path)
        Numbers of frames, their files and the denoised ones.
    wishes : Wishes
        Which tell how guides are called.

    Returns
    -------
    (float, float) or None
        Variance over time, relative to squared brightness, of the raw frames and of the denoised
        ones; None where no two frames follow each other, or nothing tells how things move.
    """
    found: list[tuple[float, float]] = []
    pairs = [(a, b) for a, b in itertools.pairwise(frames) if b[0] == a[0] + 1]
    for a, b in pairs[:: max(1, len(pairs) // MOST_PAIRS)]:
        (before, clean), (following, clean_following) = (
            _layers(x[1], x[2], wishes) for x in (a, b)
        )
        same_size = before["beauty"].shape == following["beauty"].shape
        if "motion" not in before or not same_size:
            continue
        seen = [seen_next(before, following)]
        motions = [np.asarray(before["motion"], np.float32)]
        values = []
        for pair in ((before["beauty"], following["beauty"]), (clean, clean_following)):
            over = [
                x / base_of(y["albedo"]) if "albedo" in y else x
                for x, y in zip(pair, (before, following), strict=True)
            ]
            values.append(shimmer(over, motions, seen))
        found.append((values[0], values[1]))
    if not found:
        return None
    return float(np.mean([x for x, _ in found])), float(np.mean([x for _, x in found]))


def _layers(path: Path, out: Path, wishes: Wishes) -> tuple[Layers, F32]:
    """The middle rows of a frame, and the same of the denoised one."""
    with ExitStack() as opened:
        rows, cleaned = (opened.enter_context(ExrRows(p)) for p in (path, out))
        top = max(0, (rows.height - MOST_ROWS) // 2)
        bottom = min(top + MOST_ROWS, rows.height)
        layers = open_source(rows, 0, wishes, Notes()).rows(top, bottom)
        clean = open_source(cleaned, 0, wishes, Notes()).rows(top, bottom)["beauty"]
    return layers, clean
