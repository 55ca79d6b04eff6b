"""A raw picture and its clean one kept together, and blends of both made of them at once."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise import masks
from mill_lane.core.denoise.denoise import Light, blended
from mill_lane.core.denoise.judging import Judge
from mill_lane.core.denoise.lost import Lost, lost_detail
from mill_lane.core.denoise.names import STRENGTH
from mill_lane.core.denoise.strips import Strip
from mill_lane.core.denoise.verdict import Verdict
from mill_lane.core.formats.exr import read_exr, write_exr

F32 = NDArray[np.float32]
NAMES = {
    "raw": ("raw.R", "raw.G", "raw.B"),
    "lost": ("lost",),
    "noise": ("noise",),
    "object": ("id",),
}
ALL_OF_IT = 0.1  # detail lost, over the brightness, from which on the raw picture comes back whole
EVERYWHERE = masks.Where()


@dataclass(frozen=True, eq=False)
class Kept:
    """A raw picture and its clean one (H, W, 3), where halves told them the detail that went and
    where the noise is strong (H, W), and where the film told them the numbers of objects (H, W).
    """

    raw: F32
    clean: F32
    lost: F32 | None
    noise: F32 | None
    objects: F32 | None = None

    def mixed(
        self,
        strength: float = STRENGTH,
        where: masks.Where = EVERYWHERE,
        detail: float = 0.0,
    ) -> F32:
        """Blend both.

        Parameters
        ----------
        strength : float
            0 raw, 1 clean; both to the bit.
        where : Where
            Where it is clean.
        detail : float
            How much of the raw picture comes back where detail was lost, 0 to 1.

        Raises
        ------
        MillError
            For a mask that the picture has nothing for.
        """
        share = masks.made(where, self.clean, self.noise, self.objects)
        if detail > 0 and self.lost is not None:
            back = np.float32(detail) * np.clip(self.lost / np.float32(ALL_OF_IT), 0, 1)
            share = (1 - back) * (np.float32(1) if share is None else share)
        return blended(self.raw, self.clean, strength, share)


def collect(
    strips: Iterable[Strip], height: int, width: int
) -> tuple[Kept, Light, Lost | None, Verdict | None]:
    """Put the strips of a picture together: what is kept, its light, the detail that went, and
    which of both is nearer to the truth.
    """
    light, judge = Light(), Judge()
    raw, clean = (np.empty((height, width, 3), np.float32) for _ in range(2))
    lost, noise = (np.zeros((height, width), np.float32) for _ in range(2))
    told, numbers = False, None
    for strip in strips:
        light.add(strip)
        judge.add(strip)
        rows = slice(strip.y0, strip.y1)
        raw[rows] = np.nan_to_num(strip.layers["beauty"], posinf=0.0, neginf=0.0)
        clean[rows] = strip.picture
        if "object" in strip.layers:
            numbers = np.zeros((height, width), np.float32) if numbers is None else numbers
            numbers[rows] = strip.layers["object"].reshape(-1, width)
        halves = [strip.layers[n] for n in ("half_a", "half_b") if n in strip.layers]
        if len(halves) == 2:
            told = True
            lost[rows] = lost_detail(halves[0], halves[1], strip.picture).shown
            noise[rows] = masks.noisy_parts(halves[0], halves[1])
    if not told:
        return Kept(raw, clean, None, None, numbers), light, None, None
    share = float(np.sqrt(np.mean(np.square(lost))))
    return Kept(raw, clean, lost, noise, numbers), light, Lost(lost, share), judge.verdict()


def write_kept(path: Path, kept: Kept) -> None:
    """Write what is kept as an EXR: the clean picture, the raw one, the maps."""
    layers: Mapping[str, F32 | None] = {
        "beauty": kept.clean,
        "raw": kept.raw,
        "lost": kept.lost,
        "noise": kept.noise,
        "object": kept.objects,
    }
    write_exr(path, {k: v for k, v in layers.items() if v is not None}, names=NAMES)


def read_kept(path: Path) -> Kept:
    """Read what `write_kept` wrote.  Raises MillError when the file is damaged."""
    layers = read_exr(path, NAMES)
    maps = (layers.get(name) for name in ("lost", "noise", "object"))
    return Kept(layers["raw"], layers["beauty"], *maps)
