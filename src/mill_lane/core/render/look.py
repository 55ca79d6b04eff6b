"""The first look at a scene: its camera's view, small, with small pictures, soon.

It is no trial: textures are coarse, and the picture is there to recognise the scene by.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.small_pictures import flat_image, is_slow, small_image
from mill_lane.core.image.smooth import smoothed
from mill_lane.core.image.srgb import view
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.in_order import in_order
from mill_lane.core.render.load import Loaded, load, retextured
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Image, Scene

ROUNDS = (0.3, 0.8, 2.0, 4.0)  # seconds of rendering after which it is shown anew
SAMPLES, LEAST = 64, 8
NOISE = 0.03  # of a pixel, from which on it is left alone: smoothed, 0.05 of 255 apart from all 64


@dataclass(frozen=True, eq=False)
class Look:
    """A view of a scene.

    picture : uint8 (H, W, 3), display values, smoothed.  meshes : int32 (H, W), the mesh of the
    scene that a pixel's first sample met, -1 for none.  samples : the mean of each pixel.
    """

    picture: NDArray[np.uint8]
    meshes: NDArray[np.int32]
    samples: float
    complete: bool  # whether every picture was there


def first_look(
    scene: Scene,
    width: int,
    height: int,
    camera: str | None = None,
    frame: int | None = None,
    threads: int = 2,
    progress: Progress = silent,
) -> Iterator[Look]:
    """Look at a scene, again and again, each time better.

    Parameters
    ----------
    scene : Scene
    width, height : int
        Pixels.
    camera : str or None
        By name; None for the first.
    frame : int or None
        None for the first.
    threads : int
    progress : callable
        Told how far it is, from 0 to 1, and may stop it.

    Yields
    ------
    Look

    Raises
    ------
    MillError
        When there is no such camera, or a file is damaged.
    """
    roles: dict[int, str] = {}
    for m in scene.materials:
        for role, use in m.uses():
            roles.setdefault(scene.textures[use.texture].image, role)
    slow = {i for i in roles if not scene.images[i].missing and is_slow(scene.images[i])}
    quick = _with_images(scene, {i: flat_image(scene.images[i], roles[i]) for i in slow})
    at = scene.frames[0] if frame is None else frame
    tell = part(progress, 0.0, 0.3)
    quick = _with_images(quick, _small(quick, set(roles) - slow, threads, tell))
    loaded = load(quick, threads, part(progress, 0.3, 0.6), scene.seconds(at))
    # Rare bright paths would be dots in a picture of so few samples.
    recipe = Recipe(
        width=width,
        height=height,
        samples=SAMPLES,
        min_samples=LEAST,
        noise=NOISE,
        bounces=2,
        caustics=False,
        radiance_limit_direct=8.0,
        radiance_limit_indirect=1.0,
        layers=("object", "albedo", "normal", "depth"),
    )
    if not slow:
        yield from _refined(loaded, recipe, camera, at, threads, part(progress, 0.6, 1.0))
        return
    yield next(_refined(loaded, recipe, camera, at, threads, part(progress, 0.6, 0.65), False))
    tell = part(progress, 0.65, 0.85)
    whole = _with_images(scene, {i: quick.images[i] for i in set(roles) - slow})
    whole = _with_images(whole, _small(whole, slow, threads, tell))
    loaded = retextured(loaded, whole, threads)
    yield from _refined(loaded, recipe, camera, at, threads, part(progress, 0.85, 1.0))


def _with_images(scene: Scene, images: dict[int, Image]) -> Scene:
    return replace(
        scene, images=tuple(images.get(i, image) for i, image in enumerate(scene.images))
    )


def _small(scene: Scene, which: set[int], threads: int, progress: Progress) -> dict[int, Image]:
    """Small pictures; one that cannot be decoded is grey here, and told of elsewhere."""
    order = sorted(which)

    def made(k: int) -> Image:
        image = scene.images[order[k]]
        try:
            return small_image(image)
        except (MillError, OSError, ValueError):
            return flat_image(image, "colour")

    out = {}
    for k, image in enumerate(in_order(made, len(order), threads)):
        out[order[k]] = image
        progress((k + 1) / len(order), f"pictures: {k + 1} of {len(order)}")
    return out


def _refined(
    loaded: Loaded,
    recipe: Recipe,
    camera: str | None,
    frame: int,
    threads: int,
    progress: Progress,
    complete: bool = True,
) -> Iterator[Look]:
    session = Session(loaded, recipe, frame=frame, camera=camera, threads=threads, profiled=False)
    spent, total = 0.0, sum(ROUNDS)
    for seconds in ROUNDS:
        end = spent + seconds
        while spent < end and not session.done:
            session.step(0.1)
            spent += 0.1
            progress(min(spent / total, 1.0), "the first look")
        yield _look(session, loaded.scene, complete)
        if session.done:
            return


def _look(session: Session, scene: Scene, complete: bool) -> Look:
    film = session.film
    n = np.maximum(film.samples, 1)[..., None]
    guides = (film[name].reshape(*n.shape[:2], -1) / n for name in ("albedo", "normal", "depth"))
    albedo, normal, depth = guides
    light = smoothed(film.light / n, albedo, normal, depth[..., 0], float(film.samples.mean()))
    number = film["object"].reshape(light.shape[:2]).astype(np.int64) - 1
    placed = np.array([m for _, m in scene.instances] or [-1], np.int32)
    meshes = np.where(number >= 0, placed[np.clip(number, 0, len(placed) - 1)], -1)
    return Look(view(light), meshes.astype(np.int32), float(film.samples.mean()), complete)


def mesh_codes(meshes: NDArray[np.int32]) -> NDArray[np.uint8]:
    """Mesh numbers as colours (H, W, 3): the number and one, its lowest byte in red; 0 for none."""
    code = (meshes + 1).astype(np.uint32)
    return np.stack([code & 255, code >> 8 & 255, code >> 16 & 255], -1).astype(np.uint8)
