"""A look that runs: a picture that sharpens by itself, and begins anew when other is wanted.

It is coarse first: a sample for each block of pixels, then for smaller blocks, then all pixels
until its limits are met.  Its full picture is a trial that is not over: same recipe, same seed,
same bits.
"""

from __future__ import annotations

import time
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.crop import Crop, pixels_of
from mill_lane.core.image.maps import Scale, layer_picture
from mill_lane.core.image.srgb import view
from mill_lane.core.recipe import MOST_SAMPLES, TRIAL_LAYERS, Recipe
from mill_lane.core.render.display import Display, displays
from mill_lane.core.render.layers import resolved
from mill_lane.core.render.load import Loaded
from mill_lane.core.render.session import Clock, Session
from mill_lane.core.render.settings import Preview
from mill_lane.core.render.world import World

BLOCKS = (8, 4, 2)  # pixels on a side of what is shown first
FEWEST = 24  # pixels on the shorter side of a coarse picture, below which it tells nothing
WORK = "work"  # the layer for which work is counted
CODES = 65_536
WELL = 0x76  # its grey
RGB = NDArray[np.uint8]


@dataclass(frozen=True)
class Wanted:
    """What is looked at: with any other the picture begins anew.

    Attributes
    ----------
    recipe : Recipe
        That of the trial that it would be.
    crop : tuple of float or None
        Shares of the frame.
    frame : int
    preview : Preview
    counted : bool
        Whether work is counted, for the map of cost.
    """

    recipe: Recipe
    crop: Crop | None
    frame: int
    preview: Preview
    counted: bool = False

    @property
    def world(self) -> tuple[Any, ...]:
        """What the placed scene with its lights goes by."""
        r, p = self.recipe, self.preview
        sky = (r.environment_picture, r.environment_rotation, r.environment_intensity)
        sun = (r.sun_elevation, r.sun_azimuth, r.sky_strength)
        scales = tuple(sorted(r.light_scales.items()))
        return self.frame, p.only_object, p.motion and r.shutter, scales, *sky, *sun


@dataclass(frozen=True)
class Limits:
    """When a look has seen enough: samples a pixel, or the share of pixels that are clean."""

    samples: int = 256
    clean: float = 0.99


def endless(recipe: Recipe, counted: bool = False) -> Recipe:
    """The recipe of a look: a trial's without an end of its own, and without the map of cost:
    to count the work takes half as long again.
    """
    every = dict.fromkeys((*recipe.kept_layers, *TRIAL_LAYERS))
    layers = tuple(name for name in every if counted or name != WORK)
    return recipe.model_copy(
        update={"samples": MOST_SAMPLES, "time_limit": 0.0, "layers": layers, "exposure": 0.0}
    )


class LiveLook:
    """The look at one scene in memory."""

    def __init__(self, loaded: Loaded, threads: int, clock: Clock = time.perf_counter):
        self.loaded, self.threads, self.clock = loaded, threads, clock
        self.wanted: Wanted | None = None
        self.limits = Limits()
        self.sky: NDArray[np.float32] | None = None
        self._front: Session | None = None  # what is being rendered
        self.scale: Scale | None = None  # of what was drawn last, where it is a map
        self._back: Session | None = None  # the finest that is whole, coarser than that
        self._blocks: list[int] = []  # of what comes after the front
        self._world: tuple[Any, World] | None = None

    # --- going on ---
    def want(self, wanted: Wanted, sky: NDArray[np.float32] | None = None) -> bool:
        """Look at this; whether the picture begins anew with it.

        Raises
        ------
        MillError
            For a camera that there is none of: the look goes on as it was.
        """
        wanted = replace(wanted, recipe=endless(wanted.recipe, wanted.counted))
        if wanted == self.wanted:
            return False
        before = self.sky
        self.sky = sky
        try:
            self._session(wanted, max(BLOCKS))  # tells what is wrong before anything is let go of
        except Exception:
            self.sky = before
            raise
        self.wanted, self._front, self._back = wanted, None, None
        x0, y0, x1, y1 = pixels_of(wanted.crop, wanted.recipe.width, wanted.recipe.height)
        short = min(x1 - x0, y1 - y0)
        self._blocks = [*(n for n in BLOCKS if short // n >= FEWEST), 1]
        return True

    def step(self, seconds: float) -> None:
        """Go on for about so long."""
        if self.wanted is None or self.done:
            return
        if self._front is None or (self._blocks and self._front.done):
            if self._front is not None:
                self._back = self._front
            self._front = self._session(self.wanted, self._blocks.pop(0))
        self._front.step(seconds)

    @property
    def session(self) -> Session | None:
        """That of all pixels, once it is their turn."""
        return None if self._blocks else self._front

    def look_at(self, place: tuple[float, float] | None) -> None:
        """Refine a place first, in shares of the frame; None for all alike."""
        if self.session is not None and self.wanted is not None:
            size = self.wanted.recipe.width, self.wanted.recipe.height
            at = None if place is None else (place[0] * size[0], place[1] * size[1])
            self.session.priority = at

    def _session(self, wanted: Wanted, block: int) -> Session:
        recipe = wanted.recipe
        region = pixels_of(wanted.crop, recipe.width, recipe.height)
        if block > 1:
            small = -(-recipe.width // block), -(-recipe.height // block)
            recipe = recipe.model_copy(
                update={"width": small[0], "height": small[1], "samples": 1, "min_samples": 1}
            )
            region = pixels_of(wanted.crop, *small)
        key = wanted.world
        world = self._world[1] if self._world is not None and self._world[0] == key else None
        session = Session(
            self.loaded,
            recipe,
            region=region,
            frame=wanted.frame,
            threads=self.threads,
            clock=self.clock,
            preview=wanted.preview,
            sky=self.sky,
            posed=world,
            profiled=False,
        )
        self._world = key, session.world
        return session

    # --- how far it is ---
    @property
    def done(self) -> str:
        """What ended it: "samples", "noise"; empty while it goes on."""
        s = self.session
        if s is None:
            return ""
        if s.done:
            return s.done
        if s.index >= self.limits.samples:
            return "samples"
        noisy = s.recipe.noise > 0 and s.index >= s.recipe.min_samples
        return "noise" if noisy and s.converged_fraction >= self.limits.clean else ""

    @property
    def samples(self) -> float:
        """Samples a pixel, mean; below one while it is coarse."""
        if self.session is not None and self.session.index >= 1:
            return self.session.samples_mean
        if self._back is None or self.wanted is None:
            return 0.0
        return (self._back.recipe.width / self.wanted.recipe.width) ** 2

    @property
    def shown(self) -> bool:
        """Whether there is anything to see."""
        return self._back is not None or (
            self._front is not None and bool(self._front.film.samples.any())
        )

    # --- what is seen ---
    def picture(self, layer: str = "beauty", exposure: float = 0.0, gain: float = 0.0) -> RGB:
        """What there is so far, display values, (H, W, 3) of the crop, in fewer pixels while it is
        coarse; those that have no sample yet are as in the coarser one before.

        Parameters
        ----------
        layer : str
            Of `choices`.
        exposure : float
            Stops, for light alone.
        gain : float
            Stops, for colours as well, and for shares.
        """
        front, back = self._front, self._back
        assert front is not None
        picture, self.scale = drawn(front, layer, exposure, gain)
        have = front.film.samples > 0
        if have.all():
            return picture
        if back is None:
            picture[~have] = WELL
            return picture
        height, width = have.shape
        before, _ = drawn(back, layer, exposure, gain)
        rows = np.arange(height) * len(before) // height
        columns = np.arange(width) * before.shape[1] // width
        np.copyto(before := before[rows][:, columns], picture, where=have[..., None])
        return before


def choices() -> dict[str, Display]:
    """What a look can show, by name."""
    return {d.name: d for d in displays().values() if set(d.layers) <= set(TRIAL_LAYERS)}


def drawn(
    session: Session, layer: str, exposure: float, gain: float = 0.0
) -> tuple[RGB, Scale | None]:
    """What a session has so far, as it is shown.

    Parameters
    ----------
    session : Session
    layer : str
        Of `displays`; the picture where the session does not keep what it is made of.
    exposure, gain : float
        Stops; see `layer_picture`.

    Returns
    -------
    picture : array of uint8, (H, W, 3)
    scale : Scale or None
        Of what is a map.
    """
    known = displays()
    display = known.get(layer, known["beauty"])
    if not set(display.layers) <= set(session.recipe.layers):
        display = known["beauty"]
    plane = display.make(dict(resolved(session.film, display.layers)))
    if display.show.kind == "light":
        return quick_view(plane, exposure + gain), None
    return layer_picture(np.nan_to_num(plane), display.show, exposure, session.seconds, gain)


_codes = view(np.linspace(0.0, 1.0, CODES)[:, None])[:, 0]


def quick_view(light: NDArray[Any], exposure: float = 0.0) -> RGB:
    """`image.srgb.view` by a table: as it is to one code of 255, in a fifth of the time."""
    scaled = np.nan_to_num(light) * np.float32(2.0**exposure * (CODES - 1))
    np.clip(scaled, 0.0, CODES - 1, out=scaled)
    picture: RGB = _codes[(scaled + np.float32(0.5)).astype(np.int32)]
    return picture
