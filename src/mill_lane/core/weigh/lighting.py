"""What each light gives to the picture, measured by a small render with a layer for each, and where
it blows out.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from mill_lane.core.image.srgb import LUMA
from mill_lane.core.progress import Progress, silent
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import Loaded
from mill_lane.core.render.session import Session

WIDE = 96
SAMPLES = 32
MOST_LIGHTS = 256  # a layer a light has to fit in memory; beyond, nothing is told apart
FAINT = 0.01  # a light reaches as far as it makes a white surface this share of the picture's mean
SMALL_ANGLE = 0.05  # radians across, as seen from the nearest the camera comes
STRONG = 1000.0  # times the mean of the picture


@dataclass(frozen=True)
class LightView:
    """Luminances, means over the frames looked at.

    `shares` by name of the light, None where they were not told apart.

    `blown` : objects by number and the share of the picture in which they are brighter than white,
    largest first.
    """

    frames: list[int]
    mean: float
    shares: dict[str, float] | None
    blown: list[tuple[int, float]]


def light_view(
    loaded: Loaded,
    frames: list[int],
    aspect: float,
    threads: int,
    exposure: float = 0.0,
    camera: str | None = None,
    progress: Progress = silent,
) -> LightView:
    """Render a few frames small, all bounces as usual, and add up what each light gave.

    Parameters
    ----------
    loaded : Loaded
    frames : list of int
    aspect : float
        Width over height of the picture.
    threads : int
    exposure : float
        Stops.
    camera : str or None
    progress : callable
        Told how far it is, from 0 to 1, and may stop it.
    """
    luma = np.array(LUMA)
    shares: dict[str, float] = {}
    total, pixels = 0.0, 0
    blown: dict[int, int] = {}
    apart = True
    for i, frame in enumerate(frames):
        recipe = Recipe(
            width=WIDE,
            height=max(1, round(WIDE / aspect)),
            samples=SAMPLES,
            min_samples=SAMPLES,
            layers=("object", "lights"),
            light_sampling="estimate",
        )
        session = Session(loaded, recipe, frame=frame, camera=camera, threads=threads)
        if session.world.light_count > MOST_LIGHTS:
            apart = False
            session = Session(
                loaded,
                recipe.model_copy(update={"layers": ("object",)}),
                frame=frame,
                camera=camera,
                threads=threads,
            )
        while not session.done:
            session.step(0.5)
            progress(
                (i + session.share) / len(frames), f"light: frame {frame}, {i + 1} of {len(frames)}"
            )
        film = session.film
        light = film.light.astype(np.float64) @ luma / SAMPLES
        total, pixels = total + float(light.sum()), pixels + light.size
        white = light * 2.0**exposure > 1.0
        for index, n in zip(*np.unique(film["object"][white], return_counts=True), strict=True):
            if index > 0:
                blown[int(index) - 1] = blown.get(int(index) - 1, 0) + int(n)
        if apart:
            each = film["lights"].astype(np.float64).sum((0, 1)).reshape(-1, 3) @ luma / SAMPLES
            for name, part in zip(session.world.lights.names, each, strict=True):
                shares[name] = shares.get(name, 0.0) + float(part)
    whole = max(total, 1e-300)
    return LightView(
        frames=frames,
        mean=total / max(pixels, 1),
        shares={k: v / whole for k, v in shares.items()} if apart else None,
        blown=sorted(((t, n / max(pixels, 1)) for t, n in blown.items()), key=lambda x: -x[1]),
    )


def reach(intensity: float, mean: float) -> float | None:
    """Tell how far a light reaches.

    Parameters
    ----------
    intensity : float
        Candela.
    mean : float
        Radiance of the picture.

    Returns
    -------
    float or None
        Metres within which it makes a white matt surface facing it at least 1 % of `mean`.

    Notes
    -----
    A matt white surface gives off E / pi, and E = I / d^2 (inverse square law).
    """
    return math.sqrt(intensity / (math.pi * FAINT * mean)) if mean > 0 and intensity > 0 else None


def strong_and_small(radiance: float, size: float, nearest: float | None, mean: float) -> bool:
    """Tell whether an emissive surface is one that makes noise.

    Parameters
    ----------
    radiance : float
    size : float
        Metres.
    nearest : float or None
        Metres; None where it is never near.
    mean : float
        Radiance of the picture.

    Returns
    -------
    bool
        Whether it is tiny as seen, and far brighter than the picture.
    """
    return (
        0 < size < SMALL_ANGLE * max(nearest or 0.0, size) and mean > 0 and radiance > STRONG * mean
    )
