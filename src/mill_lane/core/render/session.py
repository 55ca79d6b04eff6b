"""A render as it goes: passes over a region, until the samples, the noise, the time or the artist says stop."""

from __future__ import annotations

import os
import time as clock_module
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.image.noise import Noise, summarise
from mill_lane.core.recipe import Recipe, Region, clip_region
from mill_lane.core.render.film import Film, new_film, noise_map, resolve
from mill_lane.core.render.integrator import KINDS
from mill_lane.core.render.load import Loaded, camera_view, pose
from mill_lane.core.render.tiles import TILE, render_tiles
from mill_lane.core.render.traverse import STACK

Clock = Callable[[], float]


def threads_to_use(wanted: int) -> int:
    """Between 1 and what this process may use."""
    return max(1, min(wanted, len(os.sched_getaffinity(0))))


@dataclass
class Session:
    """One render of one region of one frame.  The only mutable thing of the renderer.

    `seconds` counts time spent rendering, over interruptions.  `step` renders for a while and returns; `done` tells
    why it ended, or is empty.
    """

    loaded: Loaded
    recipe: Recipe
    region: Region | None = None
    frame: float = 1
    camera: str | None = None
    threads: int = 1
    key: str = ""  # names scene, recipe, region and frame; a saved state is only taken up under the same key
    clock: Clock = clock_module.perf_counter
    seconds: float = 0.0
    index: int = 0  # passes finished
    tile: int = 0  # tiles finished in the running pass
    done: str = ""
    rays: NDArray[np.int64] = field(default_factory=lambda: np.zeros(len(KINDS), np.int64))

    def __post_init__(self) -> None:
        r = self.recipe
        self.bounds = clip_region(self.region, r.width, r.height)
        x0, y0, x1, y1 = self.bounds
        self.film: Film = new_film(x1 - x0, y1 - y0, r.layers)
        self.tiles = -(-(x1 - x0) // TILE) * -(-(y1 - y0) // TILE)
        time = self.loaded.scene.seconds(self.frame)
        self.world = pose(self.loaded, time)
        self.view = camera_view(self.loaded.scene, time, r.width, r.height, self.camera)
        self._tile_seconds = 0.002
        self.threads = threads_to_use(self.threads)
        self._pool = ThreadPoolExecutor(self.threads)

    def step(self, seconds: float) -> None:
        """Render for about `seconds`; fewer when the pass or the render ends."""
        if self.done:
            return
        r = self.recipe
        end = self.seconds + seconds
        while not self.done and self.seconds < end:
            left = end - self.seconds
            if r.time_limit > 0:
                left = min(left, r.time_limit - self.seconds)
            count = int(max(1, min(self.tiles - self.tile, left / self._tile_seconds)))
            start = self.clock()
            self.rays += self._render(self.tile, count)
            spent = self.clock() - start
            self.seconds += spent
            self._tile_seconds = max(1e-6, 0.5 * self._tile_seconds + 0.5 * spent / count)
            self.tile += count
            if self.tile >= self.tiles:
                self.index, self.tile = self.index + 1, 0
                self._check()
                if r.noise > 0:
                    break  # the noise is looked at once a pass, by the caller's rhythm
            if r.time_limit > 0 and self.seconds >= r.time_limit:
                self.done = self.done or "time"

    def _render(self, first: int, count: int) -> NDArray[np.int64]:
        """One sample on tiles first to first + count, shared out among the threads; rays by kind."""
        r, (x0, y0, _, _) = self.recipe, self.bounds
        # More pieces than threads, so that nobody waits long for the one with the hardest tiles.
        pieces = min(count, self.threads * 4 if self.threads > 1 else 1)
        edges = [first + count * i // pieces for i in range(pieces + 1)]

        def run(i: int) -> NDArray[np.int64]:
            rays = np.zeros(len(KINDS), np.int64)
            render_tiles(
                self.world, self.view, self.film, r.width, r.height, x0, y0, edges[i], edges[i + 1] - edges[i],
                self.index, 1, r.seed, r.bounces, r.transparent_layers, r.clamp_bounced,
                np.empty(STACK, np.uint32), np.empty(8), rays,
            )  # fmt: skip
            return rays

        if pieces == 1:
            return run(0)
        return np.sum(list(self._pool.map(run, range(pieces))), axis=0)

    def _check(self) -> None:
        r = self.recipe
        if self.index >= r.samples:
            self.done = "samples"
        elif r.noise > 0 and self.index >= max(2, r.min_samples) and self.noise().rms <= r.noise:
            self.done = "noise"

    @property
    def share(self) -> float:
        """How much of the work is done, 0 to 1, by samples or by time, whichever is further."""
        by_samples = (self.index + self.tile / self.tiles) / self.recipe.samples
        by_time = self.seconds / self.recipe.time_limit if self.recipe.time_limit > 0 else 0.0
        return 1.0 if self.done else min(1.0, max(by_samples, by_time))

    @property
    def samples_mean(self) -> float:
        return float(self.film.samples.mean())

    def noise(self) -> Noise:
        """What grain is left, measured on the film."""
        return summarise(noise_map(self.film))

    def layers(self) -> dict[str, NDArray[Any]]:
        """The mean pictures so far."""
        return resolve(self.film, self.recipe.layers)

    def rays_by_kind(self) -> dict[str, int]:
        return {kind: int(n) for kind, n in zip(KINDS, self.rays, strict=True)}

    def save(self, path: Path) -> None:
        """Write the state so that the render can go on from it, bit for bit."""
        temporary = path.with_name(path.name + ".part")
        with temporary.open("wb") as f:
            np.savez(
                f,
                key=np.array(self.key),
                state=np.array([self.seconds, self.index, self.tile]),
                done=np.array(self.done),
                rays=self.rays,
                **dict(zip(Film._fields, self.film, strict=True)),  # type: ignore[arg-type]
            )
        temporary.replace(path)

    def restore(self, path: Path) -> None:
        """Take up a saved state.  Raises MillError when it belongs to another scene, recipe, region or frame."""
        with np.load(path, allow_pickle=False) as state:
            if str(state["key"]) != self.key:
                raise MillError(f"{path.name} belongs to another scene, recipe or crop.", "Start the render from the beginning.")
            self.seconds = float(state["state"][0])
            self.index, self.tile = int(state["state"][1]), int(state["state"][2])
            self.done = str(state["done"])
            self.rays = state["rays"]
            self.film = Film(*(state[name] for name in Film._fields))
