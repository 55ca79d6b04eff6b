"""What a trim changes in the picture, measured: the same crops before and after, same seed.

Beside it stands what another seed alone would make of the crop before.  A change is less than the
grain when neither single pixels nor means of blocks differ more than that.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from mill_lane.core.image.compare import rmse, ssim
from mill_lane.core.image.srgb import from_linear
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import Loaded, load, retextured
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim import apply_choices
from mill_lane.core.trim.crops import (
    Crop,
    SmallView,
    choose_crops,
    crop_of_change,
    small_view,
    touched_objects,
)
from mill_lane.core.trim.limited import Cache, limited, limits_of
from mill_lane.core.trim.model import Choice
from mill_lane.core.weigh.analysis import Analysis

SAMPLES = 32  # of a crop, at most
BLOCK = 8  # pixels of a side, over whose means grain evens out
PIXELS_ALIKE, BLOCKS_ALIKE = 1.1, 1.25  # times what another seed makes
# Bright dots make means of blocks jump: up to so many times counts as grain where it is not beyond
# so many standard errors.
BLOCKS_BY_CHANCE, CHANCE = 1.6, 2.0
NOTHING = 1e-4  # RMS below which two crops are the same, whatever the grain
TIMES = 8  # by which differences are shown

Display = NDArray[np.float64]


class Difference(BaseModel):
    """How far a crop before and after lie apart, in display values of 0 to 1.

    `seed_rms`, `seed_ssim` and `seed_blocks` compare it with the crop before from another seed;
    `blocks` are of means over 8 x 8 pixels, and `errors` tells by how many standard errors their
    squares are more than those of another seed.
    """

    model_config = ConfigDict(frozen=True)

    rms: float
    ssim: float
    blocks: float
    seed_rms: float
    seed_ssim: float
    seed_blocks: float
    seconds_before: float
    seconds_after: float
    errors: float = 0.0

    @property
    def less_than_grain(self) -> bool:
        """Whether it changes no more than another seed would."""
        if self.rms <= NOTHING:
            return True
        if self.rms > PIXELS_ALIKE * self.seed_rms:
            return False
        by_chance = self.errors < CHANCE and self.blocks <= BLOCKS_BY_CHANCE * self.seed_blocks
        return by_chance or self.blocks <= BLOCKS_ALIKE * self.seed_blocks


@dataclass(frozen=True, eq=False)
class Pair:
    """A crop before and after: display values (H, W, 3), and how far they lie apart."""

    crop: Crop
    before: Display
    after: Display
    difference: Difference

    @property
    def apart(self) -> Display:
        """The absolute difference, as many times as it can be shown."""
        return np.clip(np.abs(self.after - self.before) * TIMES, 0, 1)


def compare_crops(
    before: Display, after: Display, again: Display, seconds: tuple[float, float] = (0.0, 0.0)
) -> Difference:
    """Compare crops of one size (H, W, 3); `again` is the one before from another seed."""
    squares = [((block_means(before) - block_means(x)) ** 2).reshape(-1) for x in (after, again)]
    spread = sum(float(x.var()) / len(x) for x in squares) ** 0.5
    return Difference(
        errors=float(squares[0].mean() - squares[1].mean()) / max(spread, 1e-12),
        rms=rmse(before, after),
        ssim=ssim(before, after),
        blocks=rmse(block_means(before), block_means(after)),
        seed_rms=rmse(before, again),
        seed_ssim=ssim(before, again),
        seed_blocks=rmse(block_means(before), block_means(again)),
        seconds_before=seconds[0],
        seconds_after=seconds[1],
    )


def block_means(picture: Display) -> Display:
    """Means over blocks of 8 x 8 pixels; what is left over at the edges does not count."""
    h, w = (max(n // BLOCK, 1) for n in picture.shape[:2])
    rows, columns = min(BLOCK, picture.shape[0]), min(BLOCK, picture.shape[1])
    cut = picture[: h * rows, : w * columns]
    return np.asarray(cut.reshape(h, rows, w, columns, -1).mean((1, 3)))


@dataclass(eq=False)
class Looker:
    """Looks at what trims change of one scene; what all looks share is made once.

    Parameters
    ----------
    scene : Scene
    analysis : Analysis
    recipe : Recipe
        Of the final picture.
    threads : int
    """

    scene: Scene
    analysis: Analysis
    recipe: Recipe
    threads: int = 1
    _kept: Cache = field(default_factory=dict)
    _views: dict[int, SmallView] = field(default_factory=dict)
    _loaded: Loaded | None = None

    @property
    def quick(self) -> Recipe:
        """The recipe of a crop: the final one with no more samples than a crop needs."""
        samples = min(self.recipe.samples, SAMPLES)
        change = {
            "samples": samples,
            "min_samples": samples,
            "noise": 0.0,
            "time_limit": 0.0,
            "layers": (),
            "order": "progressive",
        }
        return self.recipe.model_copy(update=change)

    def loaded(self, progress: Progress = silent) -> Loaded:
        """The scene before, with pictures within what the shot can show."""
        if self._loaded is None:
            small = limited(self.scene, self._limits(), self.threads, self._kept)
            self._loaded = load(small, self.threads, progress)
        return self._loaded

    def _limits(self) -> dict[int, int]:
        return limits_of(self.analysis, self.recipe.height)

    def after(self, choices: Sequence[Choice], progress: Progress = silent) -> Loaded:
        """The scene with choices applied, in the same way."""
        base = self.loaded()
        trimmed, _ = apply_choices(self.scene, choices, part(progress, 0.0, 0.6))
        small = limited(trimmed, self._limits(), self.threads, self._kept)
        if same_geometry(self.scene, trimmed):
            return retextured(base, small, self.threads, part(progress, 0.6, 1.0))
        return load(small, self.threads, part(progress, 0.6, 1.0))

    def view(self, frame: int) -> SmallView:
        """The small render of a frame before."""
        if frame not in self._views:
            self._views[frame] = small_view(self.loaded(), self.recipe, frame, 1, self.threads)
        return self._views[frame]

    def crops(self, choices: Sequence[Choice], after: Loaded) -> list[Crop]:
        """Crops where choices may show; where they change most, if they are about no object."""
        frames = frames_of(self.analysis, choices)
        objects = touched_objects(self.scene, choices)
        out: list[Crop] = []
        for frame in frames:
            if objects:
                out += choose_crops(
                    self.loaded(), self.recipe, frame, objects, self.threads, self.view(frame)
                )
            if not objects or len(frames) > 1 or not out:
                then = small_view(after, self.recipe, frame, 1, self.threads)
                found = crop_of_change(self.view(frame), then, self.recipe, frame)
                out += [found] if found is not None else []
        return list({c.region: c for c in reversed(out)}.values())[::-1]

    def look(self, choices: Sequence[Choice], progress: Progress = silent) -> Iterator[Pair]:
        """Render the crops before and after, one pair after another.

        Parameters
        ----------
        choices : sequence of Choice
            Taken together.
        progress : callable
            Told how far it is, from 0 to 1, and may stop it.

        Yields
        ------
        Pair

        Raises
        ------
        MillError
            Where a choice does not fit the scene.
        """
        before = self.loaded(part(progress, 0.0, 0.2))
        after = self.after(choices, part(progress, 0.2, 0.4))
        crops = self.crops(choices, after)
        for k, crop in enumerate(crops):
            shares = [0.4 + 0.6 * (k + x / 3) / len(crops) for x in range(4)]
            tells = [part(progress, a, b) for a, b in itertools.pairwise(shares)]
            one, spent = self._render(before, crop, 0, tells[0])
            other, then = self._render(after, crop, 0, tells[1])
            again, _ = self._render(before, crop, 1, tells[2])
            yield Pair(crop, one, other, compare_crops(one, other, again, (spent, then)))

    def _render(
        self, loaded: Loaded, crop: Crop, more: int, progress: Progress
    ) -> tuple[Display, float]:
        recipe = self.quick.model_copy(update={"seed": self.recipe.seed + more})
        session = Session(
            loaded,
            recipe,
            region=crop.region,
            frame=crop.frame,
            threads=self.threads,
            profiled=False,
        )
        while not session.done:
            session.step(0.3)
            progress(session.share, f"rendering crops: frame {crop.frame}")
        light = session.film.light.astype(float) / np.maximum(session.film.samples, 1)[..., None]
        return from_linear(light * 2.0**self.recipe.exposure), session.seconds


def same_geometry(a: Scene, b: Scene) -> bool:
    """Whether two editions of a scene draw the very same meshes at the same places."""
    return a.meshes is b.meshes and a.nodes is b.nodes and a.media is b.media


def frames_of(analysis: Analysis, choices: Sequence[Choice]) -> list[int]:
    """The frames at which choices are looked at: where what they are about fills the most, or both
    ends and the middle for several.
    """
    first, last = analysis.frames
    if len(choices) > 1:
        return sorted({first, (first + last) // 2, last})
    shown = []
    images = {c.target.index for c in choices if c.target.kind == "image"}
    meshes = {c.target.index for c in choices if c.target.kind == "mesh"}
    for m in analysis.meshes:
        if (m.index in meshes or images & set(m.images)) and m.share_frame is not None:
            shown.append((m.share or 0.0, m.share_frame))
    if shown:
        return [max(shown)[1]]
    return [(first + last) // 2]
