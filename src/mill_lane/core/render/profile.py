"""Where a render's work, time and noise come from, and what would change without a light, a bounce,
an object's shading.

Work is counted exactly: rays, nodes and leaves tested, texture reads, shading evaluations.  Seconds
are measured only for whole pieces of work; what a unit of each costs is fitted to those pieces
(least squares, no cost below 0), and the parts are scaled so that they add up to the measured
whole.  Grain is told apart by differences between consecutive samples of a pixel: with S the light
of a sample and x the part of one lamp or bounce, the variance without that part is Var S - 2 Cov(S,
x) + Var x.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.noise import FLOOR
from mill_lane.core.least_squares import nonnegative
from mill_lane.core.recipe import Recipe
from mill_lane.core.render import slots as s
from mill_lane.core.render.film import Film, film_noise
from mill_lane.core.render.load import Loaded
from mill_lane.core.render.world import World

# Nanoseconds, roughly, on the machine of docs/performance.md: where the fit has nothing to go by.
USUAL = np.array([60.0, 12.0, 16.0, 40.0, 150.0])
MIN_PIECES = 12
MOST_LIGHT = 0.9  # share of a picture's light that a lamp may give and be left out for noise
MIN_PAIRS = 8  # of samples, before anything is said about light and noise


@dataclass(eq=False)
class Work:
    """What was counted, over all threads and interruptions."""

    counts: NDArray[np.int64]  # as `slots.C_` has it
    pairs: NDArray[np.float64]  # as `slots.pair_sums` has it
    lost: float
    squares: NDArray[np.float64]  # (5, 5) sums over pieces of work x work
    products: NDArray[np.float64]  # (5,) sums over pieces of work x seconds
    pieces: int

    def add(
        self,
        counts: NDArray[np.int64],
        pairs: NDArray[np.float64],
        lost: float,
        notes: list[NDArray[np.float64]],
    ) -> None:
        """Take over what a thread has counted."""
        self.counts += counts
        self.pairs += pairs
        self.lost += lost
        for note in notes:
            self.squares += np.outer(note[:5], note[:5])
            self.products += note[:5] * note[5]
            self.pieces += 1

    def state(self) -> dict[str, NDArray[Any]]:
        """What a saved session keeps of it."""
        return {
            "work_counts": self.counts,
            "work_pairs": self.pairs,
            "work_lost": np.array(self.lost),
            "work_squares": self.squares,
            "work_products": self.products,
            "work_pieces": np.array(self.pieces),
        }

    def take(self, state: Mapping[str, NDArray[Any]]) -> None:
        """Take up what `state` gave.

        Raises ValueError, and takes nothing, where that is of another size.
        """
        new = {name: state[name] for name in self.state()}
        for name, mine in self.state().items():
            if new[name].shape != mine.shape or new[name].dtype != mine.dtype:
                raise ValueError(f"{name} has another size")
        self.counts, self.pairs, self.lost = (
            new["work_counts"],
            new["work_pairs"],
            float(new["work_lost"]),
        )
        self.squares, self.products = new["work_squares"], new["work_products"]
        self.pieces = int(new["work_pieces"])


def new_work(world: World) -> Work:
    """Nothing counted yet."""
    size = s.counters_size(len(world.instances), len(world.factors), world.light_count)
    return Work(
        np.zeros(size, np.int64),
        np.zeros(s.pair_sums(world.light_count)),
        0.0,
        np.zeros((5, 5)),
        np.zeros(5),
        0,
    )


def unit_costs(
    squares: NDArray[np.float64], products: NDArray[np.float64], pieces: int
) -> NDArray[np.float64]:
    """Seconds for one ray, node, block, read and shading:

    non-negative least squares, drawn a little to the usual ratios.
    """
    usual = USUAL * 1e-9
    if pieces < MIN_PIECES or not np.isfinite(squares).all():
        return usual
    diagonal = np.diag(squares)
    if diagonal.max() <= 0:
        return usual
    # The usual costs, scaled to the time that was measured, count as much as a hundredth of the
    # pieces.
    prior = usual * float(products @ usual) / max(float(usual @ squares @ usual), 1e-300)
    pull = np.diag(0.01 * diagonal + 1e-12 * diagonal.max())
    a, b = squares + pull, products + pull @ prior
    found = nonnegative(a, b)
    return found if found.any() else prior


@dataclass(frozen=True)
class Share:
    """A part of the whole: its work, its seconds, and its share of them."""

    name: str
    seconds: float
    share: float
    rays: int = 0
    nodes: int = 0
    leaves: int = 0
    reads: int = 0
    shadings: int = 0
    light: float | None = None  # share of the light, for light_count and bounces
    noise: float | None = None  # share of the variance that would go with it


@dataclass(frozen=True)
class WhatIf:
    """What leaving something out would do:

    factors on time and on noise; None where nothing can be said.
    """

    text: str
    time: float
    noise: float | None


@dataclass(frozen=True)
class Profile:
    """How the work and the time of a trial divide.

    `seconds` are thread seconds, all threads together.
    """

    seconds: float
    kinds: list[Share]
    bounces: list[Share]
    components: list[Share]
    objects: list[Share]
    materials: list[Share]
    lights: list[Share]
    what_if: list[WhatIf]
    costs: dict[str, float]  # seconds for a unit of each kind of work
    fitted: bool  # whether the costs come from this render's own times

    @staticmethod
    def of(
        world: World, loaded: Loaded, work: Work, seconds: float, film: Film, recipe: Recipe
    ) -> Profile:
        """Read a profile off what was counted."""
        return _Reader(world, loaded, work, seconds, film, recipe).read()


class _Reader:
    def __init__(
        self, world: World, loaded: Loaded, work: Work, seconds: float, film: Film, recipe: Recipe
    ) -> None:
        self.world, self.loaded, self.work, self.film, self.recipe = (
            world,
            loaded,
            work,
            film,
            recipe,
        )
        self.seconds = seconds
        self.costs = unit_costs(work.squares, work.products, work.pieces)
        counts = work.counts
        self.table = counts[: s.C_COMPONENTS].reshape(len(s.RAYS), s.DEPTHS, 5)
        total = float(self.table.reshape(-1, 5).sum(0) @ self.costs)
        self.scale = seconds / total if total > 0 else 0.0
        self.parts = counts[s.C_COMPONENTS : s.C_INSTANCES].reshape(-1, 5)
        at = s.C_INSTANCES
        n = len(world.instances) * s.INSTANCE_WORK
        self.instances = counts[at : at + n].reshape(-1, s.INSTANCE_WORK)
        at += n
        n = len(world.factors) * s.MATERIAL_WORK
        self.by_material = counts[at : at + n].reshape(-1, s.MATERIAL_WORK)
        self.by_light = counts[at + n :].reshape(-1, s.LAMP_WORK)

    def share(self, name: str, row: Any, **more: Any) -> Share:
        seconds = float(np.asarray(row, float) @ self.costs) * self.scale
        rays, nodes, leaves, reads, shadings = (int(x) for x in row)
        part = seconds / self.seconds if self.seconds > 0 else 0.0
        return Share(name, seconds, part, rays, nodes, leaves, reads, shadings, **more)

    def read(self) -> Profile:
        kinds = [
            self.share(k, self.table[i].sum(0)) for i, k in enumerate(s.RAYS) if self.table[i].any()
        ]
        light, noise = self._parts()
        light_count = self.world.light_count
        bounces = []
        for d in range(s.DEPTHS):
            row = self._bounce(d)
            if row.any() or (light[light_count + d] or 0) > 0:
                label = f"{d} and more" if d == s.DEPTHS - 1 else str(d)
                bounces.append(
                    self.share(
                        label, row, light=light[light_count + d], noise=noise[light_count + d]
                    )
                )
        names = ("camera", *s.COMPONENTS[1:])
        components = [
            self.share(n, row) for n, row in zip(names, self.parts, strict=True) if row.any()
        ]
        lights = []
        for i, name in enumerate(self.world.lights.names):
            rays, nodes, leaves, _ = self.by_light[i]
            lights.append(
                self.share(name, (rays, nodes, leaves, 0, 0), light=light[i], noise=noise[i])
            )
        return Profile(
            seconds=self.seconds,
            kinds=_heaviest(kinds),
            bounces=bounces,
            components=_heaviest(components),
            objects=_heaviest(self._objects()),
            materials=_heaviest(self._materials()),
            lights=_heaviest(lights),
            what_if=self._what_if(light, noise),
            costs=dict(zip(s.WORK, (float(c) for c in self.costs), strict=True)),
            fitted=self.work.pieces >= MIN_PIECES,
        )

    def _bounce(self, d: int) -> NDArray[np.int64]:
        """Work of the d-th scattering's light:

        its shadow rays, and the rays that left after d scatterings.
        """
        shadow = self.table[s.R_SHADOW]
        others = self.table[: s.R_SHADOW].sum(0)
        out = others[d].copy()
        if d > 0:
            out += shadow[d - 1]
        if d == s.DEPTHS - 1:
            out += shadow[d]
        return np.asarray(out)

    def _objects(self) -> list[Share]:
        by_object: dict[str, NDArray[np.int64]] = {}
        nodes = self.loaded.scene.instances
        for instance, row in zip(self.world.instances, self.instances, strict=True):
            name = self.loaded.scene.nodes[nodes[int(instance[s.P_OBJECT])][0]].name
            tested, opened, hits, reads = (int(x) for x in row)
            line = np.array([0, tested, opened, reads, hits])
            by_object[name] = by_object.get(name, np.zeros(5, np.int64)) + line
        return [self.share(name, row) for name, row in by_object.items() if row.any()]

    def _materials(self) -> list[Share]:
        names = [m.name for m in self.loaded.scene.materials] + ["no material"]
        return [
            self.share(names[i], (0, 0, 0, reads, hits))
            for i, (hits, reads, _) in enumerate(self.by_material)
            if hits > 0
        ]

    def _parts(self) -> tuple[list[float | None], list[float | None]]:
        """Shares of the light and of the variance, for each lamp, then for each bounce; None where
        too little is known.
        """
        pairs = self.work.pairs
        rows = pairs[3:].reshape(-1, 3)
        if pairs[0] < MIN_PAIRS:
            return [None] * len(rows), [None] * len(rows)
        light: list[float | None] = [
            float(x / pairs[1]) if pairs[1] > 0 else 0.0 for x in rows[:, 0]
        ]
        noise: list[float | None] = [
            float((2 * dx - xx) / pairs[2]) if pairs[2] > 0 else 0.0 for _, dx, xx in rows
        ]
        return light, noise

    def noise_without(self, light: float | None, noise: float | None) -> float | None:
        """The factor on the noise when a part goes that gives `light` and `noise` (shares)."""
        pairs = self.work.pairs
        if light is None or noise is None or pairs[2] <= 0:
            return None
        mean = pairs[1] / (2 * pairs[0])
        left = max(1.0 - noise, 0.0)
        return math.sqrt(left) * (mean + FLOOR) / (mean * max(1.0 - light, 0.0) + FLOOR)

    def _what_if(self, light: list[float | None], noise: list[float | None]) -> list[WhatIf]:
        out = []
        light_count = self.world.light_count
        every = self.recipe.light_sampling == "all"
        for i, name in enumerate(self.world.lights.names):
            rays, nodes, leaves, _ = self.by_light[i]
            saved = self.share(name, (rays, nodes, leaves, 0, 0)).share if every else 0.0
            # Leaving out what gives all the light leaves no picture: that is no way to less noise.
            if ((light[i] or 0) > 0 or saved > 0) and (light[i] or 0) < MOST_LIGHT:
                out.append(
                    WhatIf(f"without {name}", 1.0 - saved, self.noise_without(light[i], noise[i]))
                )
        last = min(self.recipe.bounces + 1, s.DEPTHS - 1)
        if self.recipe.bounces > 0 and (light[light_count + last] or 0) > 0:
            saved = self.share("", self._bounce(last)).share
            text = (
                "with one bounce less"
                if last == self.recipe.bounces + 1
                else f"with {s.DEPTHS - 2} bounces"
            )
            out.append(
                WhatIf(
                    text,
                    1.0 - saved,
                    self.noise_without(light[light_count + last], noise[light_count + last]),
                )
            )
        shading = sorted(
            self._objects(), key=lambda o: -(o.reads * self.costs[3] + o.shadings * self.costs[4])
        )
        for o in shading[:5]:
            saved = (
                (o.reads * self.costs[3] + o.shadings * self.costs[4])
                * self.scale
                / max(self.seconds, 1e-300)
            )
            out.append(
                WhatIf(
                    f"without the shading of {o.name}",
                    1.0 - float(saved),
                    self._noise_beside(o.name),
                )
            )
        return out

    def _noise_beside(self, name: str) -> float | None:
        """The factor on the picture's noise if the pixels that show an object had none; None
        without that layer.
        """
        if "object" not in self.film or not (self.film.samples >= 2).all():
            return None
        scene = self.loaded.scene
        numbers = [
            i + 1 for i, (node, _) in enumerate(scene.instances) if scene.nodes[node].name == name
        ]
        squares = film_noise(self.film).astype(float) ** 2
        total = float(squares.mean())
        shown = np.isin(self.film["object"], numbers)
        return math.sqrt(float(np.where(shown, 0.0, squares).mean()) / total) if total > 0 else None


def _heaviest(shares: list[Share]) -> list[Share]:
    return sorted(shares, key=lambda x: -x.seconds)
