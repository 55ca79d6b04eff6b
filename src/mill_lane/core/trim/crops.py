"""Where in the picture a trim may show: crops in which what it changes is seen directly, in a
reflection, or by its shadow.

The frame is rendered small with the objects and without them, from the same seed.  Where it differs
although another object is seen there, it is a shadow that went (brighter without) or light that
went (darker without): a reflection, or bounced light.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict
from scipy import ndimage

from mill_lane.core.image.srgb import from_linear, luminance
from mill_lane.core.recipe import Recipe, Region
from mill_lane.core.render.load import Loaded
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import Choice

SIDE = 96  # pixels of a crop, at most
SMALL = 160  # pixels across of the small renders
SAMPLES = 12  # of the small renders
CLEAR = 1.6  # times the grain, from where on a difference is one
SAME = 1e-5  # of display values, up to which two renders are the same
FEWEST = 12  # pixels of the small render in which a thing shows at all

Why = Literal["direct", "reflection", "shadow", "change"]


class Crop(BaseModel):
    """A piece of the picture at a frame: x0, y0, x1, y1 in pixels of the recipe's picture."""

    model_config = ConfigDict(frozen=True)

    frame: int
    region: Region
    why: Why


@dataclass(frozen=True, eq=False)
class SmallView:
    """A small render: luminance as displayed (H, W), and the objects seen (H, W), -1 for none."""

    shown: NDArray[np.float64]
    objects: NDArray[np.int64]


def small_view(
    loaded: Loaded, recipe: Recipe, frame: int, seed: int = 1, threads: int = 1
) -> SmallView:
    """Render the frame small, with the bounces of the recipe."""
    width = min(SMALL, recipe.width)
    height = max(1, round(width * recipe.height / recipe.width))
    small = recipe.model_copy(
        update={
            "width": width,
            "height": height,
            "samples": SAMPLES,
            "min_samples": SAMPLES,
            "noise": 0.0,
            "time_limit": 0.0,
            "seed": seed,
            "radiance_limit_indirect": 4.0,
            "layers": ("object",),
        }
    )
    session = Session(loaded, small, frame=frame, threads=threads, profiled=False)
    while not session.done:
        session.step(5.0)
    light = session.film.light.astype(float) / SAMPLES
    objects = session.film["object"].reshape(height, width).astype(np.int64) - 1
    return SmallView(from_linear(luminance(light)), objects)


def without(loaded: Loaded, objects: Collection[int]) -> Loaded:
    """The loaded scene without some of its placed objects, nothing read anew."""
    scene = loaded.scene
    nodes = {scene.instances[i][0] for i in objects}
    bare = tuple(replace(n, mesh=-1) if i in nodes else n for i, n in enumerate(scene.nodes))
    return replace(loaded, scene=replace(scene, nodes=bare))


def touched_objects(scene: Scene, choices: Sequence[Choice]) -> set[int]:
    """The placed objects, by number, that choices are about; all where they are about light."""
    images = {c.target.index for c in choices if c.target.kind == "image"}
    materials = {c.target.index for c in choices if c.target.kind == "material"}
    meshes = {c.target.index for c in choices if c.target.kind == "mesh"}
    for i, m in enumerate(scene.materials):
        if any(scene.textures[use.texture].image in images for _, use in m.uses()):
            materials.add(i)
    for i, mesh in enumerate(scene.meshes):
        if any(p.material in materials for p in mesh.parts):
            meshes.add(i)
    named = {
        i
        for c in choices
        for i in (c.parameters.get("objects") or ())
        if isinstance(i, int) and i < len(scene.instances)
    }
    single = {c.target.index for c in choices if c.target.kind == "object"}
    by_objects = {c.target.index for c in choices if c.parameters.get("objects")}
    return (
        named | single | {i for i, (_, m) in enumerate(scene.instances) if m in meshes - by_objects}
    )


def choose_crops(
    loaded: Loaded,
    recipe: Recipe,
    frame: int,
    objects: Collection[int],
    threads: int = 1,
    known: SmallView | None = None,
) -> list[Crop]:
    """Choose up to three crops where objects show: directly, in a reflection, by a shadow.

    Parameters
    ----------
    loaded : Loaded
        The scene before the trim.
    recipe : Recipe
        Of the final picture.
    frame : int
    objects : collection of int
        By number among the placed ones.
    threads : int
    known : SmallView, optional
        The small render of that frame, where it was made already.

    Returns
    -------
    list of Crop
        Empty where they show nowhere in this frame.
    """
    before = known or small_view(loaded, recipe, frame, threads=threads)
    mine = np.isin(before.objects, list(objects))
    out = []
    if mine.sum() >= FEWEST:
        out.append(_crop(mine.astype(float), recipe, frame, "direct"))
    if len(set(objects)) >= len(loaded.scene.instances):
        return out
    bare = small_view(without(loaded, objects), recipe, frame, threads=threads)
    again = small_view(loaded, recipe, frame, seed=recipe.seed + 1, threads=threads)
    grain = (
        float(np.sqrt(((again.shown - before.shown) ** 2)[~mine].mean())) if (~mine).any() else 0
    )
    change = ndimage.uniform_filter(np.where(mine, 0.0, bare.shown - before.shown), 5)
    # A mean over 5 x 5 pixels has a fifth of their grain.
    least = CLEAR * max(grain / 5, 1e-4)
    for why, gone in (("reflection", -change), ("shadow", change)):
        strong = np.where((gone > least) & ~mine, gone, 0.0)
        if (strong > 0).sum() >= FEWEST:
            out.append(_crop(strong, recipe, frame, "shadow" if why == "shadow" else "reflection"))
    return out


def crop_of_change(before: SmallView, after: SmallView, recipe: Recipe, frame: int) -> Crop | None:
    """The crop in which two small renders differ the most; None where they are the same."""
    apart = np.abs(after.shown - before.shown)
    return _crop(apart, recipe, frame, "change") if apart.max(initial=0.0) > SAME else None


def _crop(weight: NDArray[np.float64], recipe: Recipe, frame: int, why: Why) -> Crop:
    """The crop with the most weight in it, (H, W) over the whole picture."""
    scale = recipe.width / weight.shape[1]
    side = min(SIDE, recipe.width, recipe.height)
    window = max(1, round(side / scale))
    sums = ndimage.uniform_filter(weight, window, mode="constant")
    y, x = np.unravel_index(int(sums.argmax()), sums.shape)
    x0 = int(min(max(round((x + 0.5) * scale - side / 2), 0), recipe.width - side))
    y0 = int(min(max(round((y + 0.5) * scale - side / 2), 0), recipe.height - side))
    return Crop(frame=frame, region=(x0, y0, x0 + side, y0 + side), why=why)
