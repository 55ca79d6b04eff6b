"""Noise taken out of a picture: three strengths of work behind one function."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise.names import RADIUS
from mill_lane.core.denoise.noisy import check_sizes
from mill_lane.core.denoise.notes import Notes
from mill_lane.core.denoise.strips import Mode, Settings, Source, Strip, strips_of
from mill_lane.core.errors import MillError
from mill_lane.core.image.srgb import luminance

F32 = NDArray[np.float32]
SMALLEST = 8  # pixels a side


@dataclass(frozen=True, eq=False)
class Clean:
    """A picture (H, W, 3) without its noise.

    halves : the same of either half of the samples, whose difference tells what noise is left;
    None where there were none.  light_change : of the sum of all light, relative.  fireflies,
    moved : bright dots that were spread out, and the share of the light that moved by it.
    """

    picture: F32
    halves: tuple[F32, F32] | None
    light_change: float
    fireflies: int
    moved: float
    notes: tuple[str, ...]


class Light:
    """What happened to the light of a picture, strip by strip."""

    def __init__(self) -> None:
        self.before = self.after = self.fireflies = self.moved = self.luma = 0.0

    def add(self, strip: Strip) -> None:
        """Count a strip."""
        raw = np.nan_to_num(strip.layers["beauty"], posinf=0.0, neginf=0.0)
        self.before += float(raw.sum(dtype=np.float64))
        self.after += float(strip.picture.sum(dtype=np.float64))
        self.luma += float((luminance(raw)).sum(dtype=np.float64))
        self.fireflies += strip.fireflies
        self.moved += strip.moved

    @property
    def change(self) -> float:
        """Of all the light, relative."""
        return self.after / self.before - 1 if self.before > 0 else 0.0

    @property
    def moved_share(self) -> float:
        """Of all the light, from bright dots to their neighbours."""
        return self.moved / max(self.luma, 1e-30)


def check_large(height: int, width: int) -> None:
    """Refuse pictures that are too small to learn from.

    Raises
    ------
    MillError
    """
    if min(height, width) < SMALLEST:
        raise MillError(
            f"The picture is {width} x {height} pixels: there are too few to learn from.",
            f"Denoise pictures of at least {SMALLEST} x {SMALLEST}.",
        )


def source_of(layers: Mapping[str, F32], step: int = 0) -> Source:
    """Layers that are in memory, as a picture that is read strip by strip.

    Raises
    ------
    MillError
        For layers of different sizes.
    """
    check_sizes(layers)
    height, width = layers["beauty"].shape[:2]
    return Source(
        height, width, lambda y0, y1: {name: x[y0:y1] for name, x in layers.items()}, step
    )


def denoise(
    layers: Mapping[str, F32],
    mode: Mode = "quality",
    radius: int = RADIUS,
    threads: int = 1,
    progress: Callable[[float], None] | None = None,
    guides: Mapping[str, float] | None = None,
    beside: Iterable[tuple[int, Mapping[str, F32]]] = (),
    rows: int = 0,
) -> Clean:
    """Take the noise out of a picture.

    Parameters
    ----------
    layers : mapping
        By name, float32 (H, W, C): "beauty", and guides; see `noisy.noisy_of`.
    mode : {"quality", "preview", "fireflies"}
        First-order regression on the guides; a few passes over wide grids; bright dots alone.
    radius : int
        Pixels to either side that "quality" looks at.
    threads : int
        The result does not depend on it.
    progress : callable, optional
        Told the share that is done; may stop it.
    guides : mapping, optional
        How much each guide counts, 0 to 1; one that is not named counts 1.
    beside : iterable of (int, mapping)
        Layers of other frames, and how many frames later they are (before: negative).
    rows : int
        Of a strip, 0 for as many as memory is thought of for; the result does not depend on it.

    Raises
    ------
    MillError
        Where layers do not fit each other, or the picture is too small.
    """
    source = source_of(layers)
    check_large(source.height, source.width)
    notes, light = Notes(), Light()
    settings = Settings(mode, radius, guides or {}, threads)
    others = [source_of(theirs, step) for step, theirs in beside]
    strips = []
    for strip in strips_of(source, settings, notes, others, rows, progress):
        light.add(strip)
        strips.append(strip)
    halves = [s.halves for s in strips if s.halves is not None]
    return Clean(
        np.concatenate([s.picture for s in strips]),
        (np.concatenate([h[0] for h in halves]), np.concatenate([h[1] for h in halves]))
        if halves
        else None,
        light.change,
        round(light.fireflies),
        light.moved_share,
        notes.words(),
    )


def blended(raw: F32, clean: F32, strength: float, mask: F32 | None = None) -> F32:
    """A blend of raw and clean (H, W, 3): 0 is the raw one, 1 the clean one, bit for bit.

    mask : float32 (H, W), 0 to 1, of how much of it each pixel gets.
    """
    share = np.float32(strength) * (np.float32(1) if mask is None else mask[..., None])
    mixed = raw + (clean - raw) * share
    return np.where(share >= 1, clean, np.where(share <= 0, raw, mixed)).astype(np.float32)
