"""Whether the parts of a scene add up: a small frame of all of it against the sum of its parts."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.plan.way import Means
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import Loaded, load, retextured
from mill_lane.core.render.pose import ScenePart
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.shrink import shrink

WIDE, SAMPLES = 160, 4  # pixels across, and samples, of the small frame
SIDE = 512  # texels of a texture, at most: as many as it shows, and they fit everywhere
FAR_OFF = 0.01  # of the light, from which on it is trouble


@dataclass(frozen=True)
class Sum:
    """What the parts gave against the whole, of one small frame with the same samples.

    Attributes
    ----------
    light : float
        By how much the sum has more light, relative; below zero, less.
    difference : float
        Root mean square difference of pixels, relative to the mean.
    """

    light: float
    difference: float

    @property
    def words(self) -> str:
        """What is wrong with it; empty where nothing is."""
        if abs(self.light) <= FAR_OFF:
            return ""
        return f"its parts add up to {self.light:+.1%} of light"


def add_up(
    scene: Scene,
    recipe: Recipe,
    means: Means,
    images: Mapping[int, set[int]],
    frame: int,
    threads: int,
    sky: NDArray[np.float32] | None = None,
    progress: Progress = silent,
) -> Sum:
    """Render a small frame whole, and in the parts that `means` has.

    Parameters
    ----------
    scene : Scene
    recipe : Recipe
        Its size, samples and layers are made small.
    means : Means
    images : mapping
        Images that each mesh uses, by mesh.
    frame, threads : int
    sky : array of float32, (H, W, 3), optional
        Of the recipe.
    progress : callable

    Returns
    -------
    Sum
    """
    width = min(WIDE, recipe.width)
    height = max(1, round(recipe.height * width / recipe.width))
    small = recipe.model_copy(
        update={
            "width": width,
            "height": height,
            "samples": SAMPLES,
            "min_samples": SAMPLES,
            "noise": 0.0,
            "time_limit": 0.0,
            "layers": (),
        }
    )
    every = {i for used in images.values() for i in used}
    usual = {i: min(SIDE, means.sizes.get(i, SIDE)) for i in every}
    steps = len(means.parts) + 1

    def rendered(loaded: Loaded, seen: ScenePart | None, before: Session | None) -> Session:
        session = Session(loaded, small, frame=frame, threads=threads, sky=sky, part=seen)
        if before is not None:
            session.add_to(before)
        while not session.done:
            session.step(1.0)
            progress(0.0, "comparing the parts with the whole")
        return session

    whole_scene, _ = shrink(scene, usual, part(progress, 0.0, 1 / steps))
    loaded = load(whole_scene, threads)
    whole = rendered(loaded, None, None).layers()["beauty"].astype(np.float64)
    session: Session | None = None
    for k, meshes in enumerate(means.parts):
        sizes = usual | {
            i: min(side, usual.get(i, side)) for i, side in means.sizes_of(images, k).items()
        }
        smaller, _ = shrink(scene, sizes, part(progress, (k + 1) / steps, (k + 2) / steps))
        loaded = retextured(loaded, smaller, threads)
        session = rendered(loaded, ScenePart(frozenset(meshes), k == 0), session)
    if session is None:
        return Sum(0.0, 0.0)
    summed = session.layers()["beauty"].astype(np.float64)
    mean = max(float(whole.mean()), 1e-12)
    rms = math.sqrt(float(((summed - whole) ** 2).mean()))
    return Sum(float(summed.mean()) / mean - 1.0, rms / mean)
