"""A render as it goes:

tiles of a region get samples until the samples, the noise, the time or the artist says stop.
"""

from __future__ import annotations

import os
import time as clock_module
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.image.noise import Noise, summarise
from mill_lane.core.recipe import Recipe, Region, clip_region
from mill_lane.core.render import slots as s
from mill_lane.core.render.film import Film, dilate, film_noise, new_film
from mill_lane.core.render.hands import Hands
from mill_lane.core.render.layers import resolved
from mill_lane.core.render.load import Loaded
from mill_lane.core.render.pose import ScenePart, pose
from mill_lane.core.render.profile import Profile, Work, new_work
from mill_lane.core.render.settings import Preview, settings_of, shot_of
from mill_lane.core.render.state import read_state, saved_array, write_state
from mill_lane.core.render.tiles import render_tiles
from mill_lane.core.render.world import World

Clock = Callable[[], float]
CHECK_EVERY = 8  # passes between two looks at the noise, once every pixel has its least samples
AHEAD = 4  # passes that tiles near the priority point may be ahead of the others


def threads_to_use(wanted: int) -> int:
    """Between 1 and what this process may use."""
    return max(1, min(wanted, len(os.sched_getaffinity(0))))


@dataclass
class Session:
    """One render of one region of one frame.  The only mutable thing of the renderer.

    `seconds` counts time spent rendering, over interruptions.  `step` renders for a while and
    returns; between steps anything may be looked at, and `priority` (a place in the whole picture,
    pixels) may be moved.  `done` tells why it ended, or is empty.  The order in which tiles are
    drawn never changes the picture.
    """

    loaded: Loaded
    recipe: Recipe
    region: Region | None = None
    frame: float = 1
    camera: str | None = None
    threads: int = 1
    # names scene, recipe, region and frame; a saved state is only taken up under the same key
    key: str = ""
    clock: Clock = clock_module.perf_counter
    preview: Preview = field(default_factory=Preview)
    profiled: bool = True
    sky: NDArray[np.float32] | None = None  # the pixels of the recipe's sky picture
    about: str = ""  # kept in a saved state, for whoever opens it
    part: ScenePart | None = None  # what of the scene the camera sees
    posed: World | None = None  # the scene as it is placed for this, where it is there already
    priority: tuple[float, float] | None = None
    seconds: float = 0.0
    done: str = ""

    def __post_init__(self) -> None:
        r = self.recipe
        self.bounds = clip_region(self.region, r.width, r.height)
        x0, y0, x1, y1 = self.bounds
        scene = self.loaded.scene
        time = scene.seconds(self.frame)
        self.world: World = self.posed or pose(
            self.loaded, time, shot_of(r, self.preview, scene, self.sky, self.part)
        )
        self.profiled = self.profiled or "work" in r.layers
        camera = self.camera or r.camera or None
        self.settings = settings_of(
            r, self.bounds, scene, time, camera, self.preview, self.profiled, self.part
        )
        self.film: Film = new_film(x1 - x0, y1 - y0, r.layers, self.world.light_count)
        self.boxes = tile_boxes(x1 - x0, y1 - y0, r.tile_size)
        self.passes = np.zeros(len(self.boxes), np.int64)  # samples that each tile was given
        self.resting = np.zeros(len(self.boxes), np.bool_)  # tiles in which no pixel wants more
        self.work: Work = new_work(self.world)
        self._checked = 0
        self._rate = (
            2e-6 * r.tile_size**2
        )  # thread seconds for a sample on a tile, a guess until the first is measured
        self.threads = threads_to_use(self.threads)
        self._pool = ThreadPoolExecutor(self.threads)
        self._workers = [Hands(self.world) for _ in range(self.threads)]

    def add_to(self, before: Session) -> None:
        """Add to what another part of the same scene gave: its film, its time, its counts.

        Called before the first step, or before a state is taken up.
        """
        before.film.samples[...] = 0
        before.film.active[...] = 1
        self.film, self.work, self.seconds = before.film, before.work, before.seconds

    # --- going on ---
    def step(self, seconds: float) -> None:
        """Render for about `seconds`; less when the render ends."""
        end = self.seconds + seconds
        while not self.done and self.seconds < end:
            left = end - self.seconds
            if self.recipe.time_limit > 0:
                left = min(left, self.recipe.time_limit - self.seconds)
            tiles, samples = self._next(left)
            if len(tiles) == 0:
                self.done = self.done or "samples"
                break
            start = self.clock()
            self._render(tiles, samples)
            spent = self.clock() - start
            self.seconds += spent
            each = spent * self.threads / (len(tiles) * samples)
            self._rate = max(1e-7, 0.5 * self._rate + 0.5 * each)
            self.passes[tiles] += samples
            self._check()
            if self.recipe.time_limit > 0 and self.seconds >= self.recipe.time_limit:
                self.done = self.done or "time"

    def _next(self, seconds: float) -> tuple[NDArray[np.int64], int]:
        """The tiles to draw next, and how many samples each: about as much as fits into
        `seconds`.
        """
        r = self.recipe
        open_ = np.flatnonzero((self.passes < r.samples) & ~self.resting)
        if len(open_) == 0:
            return open_, 0
        affordable = max(1, int(seconds * self.threads / self._rate))
        if r.order == "tiles":
            tile = open_[self._order(open_)][: max(1, self.threads)]
            behind = int(self.passes[tile].min())
            tile = tile[self.passes[tile] == behind]
            return tile, min(r.samples - behind, max(1, affordable // len(tile)))
        least = int(self.passes[open_].min())
        if self.priority is not None:
            # Near the point tiles may run ahead; all others wait no longer than that.
            near = open_[self._order(open_)][: max(self.threads, len(self.boxes) // 16)]
            wanted = near[self.passes[near] < min(r.samples, least + AHEAD)]
            if len(wanted):
                lowest = int(self.passes[wanted].min())
                return wanted[self.passes[wanted] == lowest][:affordable], 1
        behind_ = open_[self.passes[open_] == least]
        # After a first look, two at a time where a profile is kept: it tells grain apart by pairs.
        samples = max(
            1,
            min(
                2 if self.profiled and least >= 1 else 1,
                r.samples - least,
                self._until_check(least),
            ),
        )
        if len(behind_) == len(open_) and least >= 1:
            # A whole round: several samples at once where time allows.
            many = min(8, affordable // len(behind_), r.samples - least, self._until_check(least))
            if many > samples:
                return behind_, many
        return behind_[self._order(behind_)][: max(1, affordable // samples)], samples

    def _until_check(self, least: int) -> int:
        """Passes until the noise is to be looked at."""
        r = self.recipe
        if r.noise <= 0:
            return r.samples
        first = max(2, r.min_samples)
        return first - least if least < first else CHECK_EVERY - (least - first) % CHECK_EVERY

    def _order(self, tiles: NDArray[np.int64]) -> NDArray[np.int64]:
        """How tiles are sorted: nearest to the priority point, or to the middle, first."""
        x0, y0, _, _ = self.bounds
        if self.priority is not None:
            px, py = self.priority[0] - x0, self.priority[1] - y0
        elif self.recipe.order == "tiles":
            px, py = self.settings[s.S_REGION_W] / 2, self.settings[s.S_REGION_H] / 2
        else:
            return np.arange(len(tiles))
        b = self.boxes[tiles]
        far = np.hypot((b[:, 0] + b[:, 2]) / 2 - px, (b[:, 1] + b[:, 3]) / 2 - py)
        return np.argsort(far, kind="stable")

    def _render(self, tiles: NDArray[np.int64], samples: int) -> None:
        """Some samples on some tiles, shared out among the threads."""
        edges = shared_out(len(tiles), self.threads)
        pieces = len(edges) - 1
        boxes = np.ascontiguousarray(self.boxes[tiles])
        idle = list(self._workers)

        def run(i: int) -> None:
            hands = idle.pop()
            try:
                before = hands.work.copy()
                start = clock_module.thread_time()
                render_tiles(
                    self.world.address,
                    self.settings.ctypes.data,
                    self.film.table.ctypes.data,
                    hands.paths.ctypes.data,
                    hands.work.ctypes.data,
                    boxes[edges[i] :].ctypes.data,
                    edges[i + 1] - edges[i],
                    samples,
                    self.recipe.samples,
                )
                hands.note(before, clock_module.thread_time() - start)
            finally:
                idle.append(hands)

        if pieces == 1:
            run(0)
        else:
            list(self._pool.map(run, range(pieces)))
        for hands in self._workers:
            hands.hand_over(self.work)

    def _check(self) -> None:
        """Look whether pixels are clean, and whether the render is over."""
        r = self.recipe
        least = int(self.passes[~self.resting].min()) if not self.resting.all() else r.samples
        first = max(2, r.min_samples)
        due = (
            r.noise > 0
            and least >= first
            and least - self._checked >= (CHECK_EVERY if self._checked else 0)
        )
        if due and least > self._checked:
            self._checked = least
            if self._rest() >= r.converged_fraction:
                self.done = "noise"
        if not self.done and bool(((self.passes >= r.samples) | self.resting).all()):
            self.done = (
                "noise" if self.resting.any() and (self.passes < r.samples).any() else "samples"
            )

    def _rest(self) -> float:
        """Let pixels rest whose noise, and whose neighbours' noise, is under the threshold; returns
        their share.
        """
        wants = dilate(film_noise(self.film) > self.recipe.noise)
        self.film.active[...] = wants
        for i, (x0, y0, x1, y1) in enumerate(self.boxes):
            self.resting[i] = not wants[y0:y1, x0:x1].any()
        return 1.0 - float(wants.mean())

    def stop(self) -> None:
        """End it by hand, with what there is."""
        self.done = self.done or "hand"

    # --- looking ---
    @property
    def index(self) -> int:
        """Samples that every pixel that wants them has."""
        return (
            int(self.passes[~self.resting].min())
            if not self.resting.all()
            else int(self.passes.max())
        )

    @property
    def share(self) -> float:
        """How much of the work is done, 0 to 1, by samples or by time, whichever is further."""
        by_samples = float(np.where(self.resting, 1.0, self.passes / self.recipe.samples).mean())
        by_time = self.seconds / self.recipe.time_limit if self.recipe.time_limit > 0 else 0.0
        return 1.0 if self.done else min(1.0, max(by_samples, by_time))

    @property
    def samples_mean(self) -> float:
        """Samples a pixel, mean over the region."""
        return float(self.film.samples.mean())

    @property
    def converged_fraction(self) -> float:
        """Share of the pixels that rest."""
        return 1.0 - float(self.film.active.mean())

    def noise(self) -> Noise:
        """What grain is left, measured on the film."""
        return summarise(film_noise(self.film))

    def layers(self) -> dict[str, NDArray[Any]]:
        """The mean pictures so far."""
        return dict(self.each_layer())

    def each_layer(self) -> Iterator[tuple[str, NDArray[Any]]]:
        """`layers` one after another, so that only one more picture is held at a time."""
        return resolved(self.film, self.recipe.layers, self.world.lights.names)

    def rays_by_kind(self) -> dict[str, int]:
        """Rays followed so far; without a profile only samples are counted."""
        kinds = self.work.counts[: s.C_COMPONENTS].reshape(len(s.RAYS), s.DEPTHS, 5)[:, :, 0].sum(1)
        out = {kind: int(n) for kind, n in zip(s.RAYS, kinds, strict=True)}
        if not self.profiled:
            out["camera"] = int(self.film.samples.sum())
        return out

    @property
    def light_lost(self) -> float:
        """The share of the light that clamping and leaving caustics out took away."""
        kept = float(self.film.luma[..., 0].sum(dtype=np.float64))
        return self.work.lost / (kept + self.work.lost) if self.work.lost > 0 else 0.0

    def profile(self) -> Profile:
        """Where the work and the grain come from."""
        return Profile.of(
            self.world, self.loaded, self.work, self.seconds * self.threads, self.film, self.recipe
        )

    # --- keeping ---
    def save(self, path: Path) -> None:
        """Write the state so that the render can go on from it, bit for bit."""
        planes: dict[str, Any] = {
            f"film_{name}": plane for name, plane in self.film.planes().items()
        }
        own = {
            "key": np.array(self.key),
            "about": np.array(self.about),
            "seconds": np.array(self.seconds),
            "done": np.array(self.done),
            "passes": self.passes,
            "resting": self.resting,
            "checked": np.array(self._checked),
        }
        write_state(path, {**own, **self.work.state(), **planes})

    def restore(self, path: Path, ended: str = "") -> None:
        """Take up a saved state.

        Parameters
        ----------
        path : Path
        ended : str
            The key of a render that has ended and is to get more samples, where the state may be
            that one's: then every pixel is looked at anew.

        Raises
        ------
        MillError
            When it is damaged, or belongs to another scene, recipe or crop.
        """
        with read_state(path) as state:
            key = str(state["key"])
            if key != self.key and not (ended and key == ended):
                raise MillError(
                    f"{path.name} belongs to another scene, recipe or crop.",
                    "Start the render from the beginning.",
                )
            mine = {"passes": self.passes, "resting": self.resting}
            mine |= {f"film_{name}": plane for name, plane in self.film.planes().items()}
            saved = {name: saved_array(state, name, array) for name, array in mine.items()}
            seconds, done, checked = (
                float(state["seconds"]),
                str(state["done"]),
                int(state["checked"]),
            )
            self.work.take(state)
            self.seconds, self.done, self._checked = seconds, done, checked
            for name, array in mine.items():
                array[...] = saved[name]
        if key != self.key:
            self.done, self._checked = "", 0
            self.resting[:], self.film.active[...] = False, 1


def shared_out(count: int, threads: int) -> list[int]:
    """Where pieces of `count` tiles begin that threads take one after another, and the end.

    Each piece is a half of what would be a thread's even share of what is left: large at first,
    so that taking them costs little, and small at last, so that nobody waits long for the hardest.
    """
    edges = [0]
    while edges[-1] < count:
        left = count - edges[-1]
        edges.append(edges[-1] + (left if threads == 1 else max(1, left // (2 * threads))))
    return edges


def tile_boxes(width: int, height: int, size: int) -> NDArray[np.int64]:
    """The tiles of a region, row by row: int64 (T, 4) as x0, y0, x1, y1."""
    return np.array(
        [
            (x, y, min(x + size, width), min(y + size, height))
            for y in range(0, height, size)
            for x in range(0, width, size)
        ],
        np.int64,
    )
