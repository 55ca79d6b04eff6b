"""A pilot of a crop: raw and denoised errors at several counts of one render, what they lead to,
and a confirming render.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise.denoise import denoise
from mill_lane.core.denoise.found import SAMPLES, Found, Point
from mill_lane.core.denoise.holding import Told, error_against, samples_that_hold
from mill_lane.core.recipe import MOST_SAMPLES, Recipe, Region
from mill_lane.core.render.load import Loaded
from mill_lane.core.render.session import Session

F32 = NDArray[np.float32]
Layers = Mapping[str, F32]
Tell = Callable[[float, str], None]
LAYERS = ("albedo", "normal", "depth", "half_buffers", "variance")
STEPS = (16, 8, 4, 2, 1)  # parts of the pilot at which its errors are taken
LEAST, MOST = 16, 256  # samples of a pilot
FARTHEST = 4  # times the pilot's samples up to which an answer is confirmed


@dataclass(frozen=True)
class Shot:
    """What is rendered: the scene, with which recipe, which crop of which frame."""

    loaded: Loaded
    recipe: Recipe
    region: Region
    frame: float
    threads: int
    sky: F32 | None = None

    def session(self, samples: int, seed: int) -> Session:
        """A render with as many samples everywhere."""
        recipe = self.recipe.model_copy(
            update={
                "samples": samples,
                "min_samples": samples,
                "noise": 0.0,
                "time_limit": 0.0,
                "layers": LAYERS,
                "seed": self.recipe.seed + seed,
            }
        )
        return Session(
            self.loaded,
            recipe,
            region=self.region,
            frame=self.frame,
            threads=self.threads,
            profiled=False,
            sky=self.sky,
        )


def run_pilot(shot: Shot, target: float, samples: int = SAMPLES, tell: Tell | None = None) -> Found:
    """Find how few samples hold.

    Parameters
    ----------
    shot : Shot
    target : float
        The relative mean squared error that is allowed.
    samples : int
        Of the pilot; two more renders of as many judge it.
    tell : callable, optional
        Told the share that is done and what goes on; may stop it.
    """
    samples = min(max(samples, LEAST), MOST)
    say = tell or (lambda _share, _text: None)
    judges = _Judges(shot, samples, lambda s: say(0.4 * s, "two renders that judge"))
    session = shot.session(samples, 0)
    points: list[Point] = []
    clean_seconds: list[float] = []
    pixels = session.film.samples.size
    for part in STEPS:
        _reach(session, samples // part, lambda s: say(0.4 + 0.2 * s, "the pilot"))
        layers = session.layers()
        count = round(session.samples_mean)
        raw = judges.error(layers["beauty"])
        began = time.perf_counter()
        clean = denoise(layers, threads=shot.threads).picture
        clean_seconds.append((time.perf_counter() - began) / (pixels / 1e6))
        found = judges.error(clean)
        points.append(
            Point(
                samples=count,
                raw=raw.value,
                raw_spread=raw.spread,
                clean=found.value,
                clean_spread=found.spread,
            )
        )
    pairs = [(p.samples, p.clean) for p in points]
    answer = samples_that_hold(pairs, target, [p.clean_spread for p in points])
    confirmed = None
    if answer is not None and answer.samples <= FARTHEST * samples:
        again = shot.session(answer.samples, 103)
        _finish(again, lambda s: say(0.65 + 0.3 * s, "a render that confirms it"))
        clean = denoise(again.layers(), threads=shot.threads).picture
        confirmed = judges.error(clean)
    known = answer if answer is not None and answer.samples < MOST_SAMPLES else None
    return Found(
        target=target,
        points=points,
        samples=known.samples if known else None,
        low=known.low if known else None,
        high=known.high if known else None,
        confirmed=confirmed.value if confirmed else None,
        confirmed_spread=confirmed.spread if confirmed else None,
        seconds_sample=session.seconds / max(session.samples_mean * pixels, 1),
        seconds_clean=sorted(clean_seconds)[len(clean_seconds) // 2],
        region=shot.region,
    )


class _Judges:
    """Two renders with seeds of their own, and how bright the crop is about."""

    def __init__(self, shot: Shot, samples: int, tell: Callable[[float], None]) -> None:
        self.pictures: list[F32] = []
        bright: list[F32] = []
        for k in range(2):
            session = shot.session(samples, 101 + k)

            def judging(share: float, k: int = k) -> None:
                tell((k + share) / 2)

            _finish(session, judging)
            layers = session.layers()
            self.pictures.append(layers["beauty"])
            self.albedo = layers["albedo"]
            bright.append(denoise(layers, threads=shot.threads).picture)
        self.bright = ((bright[0] + bright[1]) / 2).astype(np.float32)

    def error(self, picture: F32) -> Told:
        """Of a picture of the same crop."""
        a, b = self.pictures
        return error_against(picture, a, b, self.bright, self.albedo)


def _finish(session: Session, tell: Callable[[float], None]) -> None:
    while not session.done:
        session.step(0.25)
        tell(session.share)


def _reach(session: Session, samples: int, tell: Callable[[float], None]) -> None:
    """Render until every pixel has so many samples, as nearly as passes allow."""
    while not session.done and session.samples_mean < samples - 0.5:
        session.step(0.02)
        tell(session.share)
