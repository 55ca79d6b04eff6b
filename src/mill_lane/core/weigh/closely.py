"""Weighing in full, in stages whose results can be shown as they come."""

from __future__ import annotations

import base64
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import encode
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.render.load import in_order, load
from mill_lane.core.scene.model import Scene
from mill_lane.core.weigh.images import ImageLook, look_at_image
from mill_lane.core.weigh.inventory import Inventory, Look, TextureRow
from mill_lane.core.weigh.lighting import LightView, light_view, reach, strong_and_small
from mill_lane.core.weigh.looking import CLASSES, Looker, View, look
from mill_lane.core.weigh.measure import PICTURE_HEIGHT, weigh

LIT_FRAMES = 3  # frames of the small renders: first, middle, last
Ready = Callable[[Inventory], None]


def weigh_closely(
    scene: Scene,
    aspect: float = 16 / 9,
    camera: str | None = None,
    threads: int = 1,
    progress: Progress = silent,
    ready: Ready | None = None,
) -> Inventory:
    """Count and measure, decode every picture, look at the shot from all over its frames, and light
    it.

    `ready` gets the inventory after each stage.  The pictures are decoded one after another and
    kept small, so that this takes little more memory than the meshes.  Raises MillError where the
    scene is damaged.
    """
    tell = ready or (lambda inventory: None)
    inventory = weigh(scene, aspect, camera, part(progress, 0.0, 0.3), exact=True)
    tell(inventory)
    looks = []
    for i, found in enumerate(in_order(lambda k: _image(scene, k), len(scene.images), threads)):
        looks.append(found)
        progress(
            0.3 + 0.3 * (i + 1) / len(scene.images), f"textures: {i + 1} of {len(scene.images)}"
        )
    inventory = with_images(inventory, looks)
    tell(inventory)
    small = scene.with_images({i: x.small for i, x in enumerate(looks)})
    loaded = load(small, threads, part(progress, 0.6, 0.7))
    looker = Looker(loaded, aspect, PICTURE_HEIGHT, camera)
    view = look(looker, part(progress, 0.7, 0.9))
    inventory = with_view(inventory, scene, view, aspect)
    tell(inventory)
    first, last = scene.frames
    frames = sorted(
        {first + round(i * (last - first) / (LIT_FRAMES - 1)) for i in range(LIT_FRAMES)}
    )
    lit = light_view(
        loaded, frames, aspect, threads, camera=camera, progress=part(progress, 0.9, 1.0)
    )
    return with_lights(inventory, scene, lit)


def _image(scene: Scene, index: int) -> ImageLook:
    image = scene.images[index]
    try:
        return look_at_image(image)
    except MillError:
        return ImageLook(
            image.channels, image.bits, "cannot be decoded", "", replace(image, missing=True)
        )


def with_images(inventory: Inventory, looks: list[ImageLook]) -> Inventory:
    """The inventory with what decoding told."""
    first: dict[str, int] = {}
    rows: list[TextureRow] = []
    for row in inventory.textures:
        found = looks[row.index]
        same = first.setdefault(found.digest, row.index) if found.digest else row.index
        rows.append(
            row.model_copy(
                update={
                    "channels_used": found.channels,
                    "bits_used": found.bits,
                    "why": found.why,
                    "same_as": same if same != row.index else None,
                }
            )
        )
    return inventory.model_copy(update={"textures": rows, "stage": 2})


def with_view(inventory: Inventory, scene: Scene, view: View, aspect: float) -> Inventory:
    """The inventory with what looking told."""
    placed = [mesh for _, mesh in scene.placements]
    best: dict[int, int] = {}
    most: dict[int, tuple[float, int]] = {}
    for thing, mesh in enumerate(placed):
        best[mesh] = max(best.get(mesh, 0), int(view.best[thing]))
        most[mesh] = max(
            most.get(mesh, (-1.0, 0)), (float(view.most[thing]), int(view.where[thing]))
        )
    pixels = PICTURE_HEIGHT**2 * aspect
    meshes, by_image = [], dict.fromkeys(range(len(inventory.textures)), -1)
    for row in inventory.meshes:
        share, frame = most[row.index]
        for image in row.images:
            by_image[image] = max(by_image[image], best[row.index])
        covered = share > 0
        meshes.append(
            row.model_copy(
                update={
                    "seen": CLASSES[best[row.index]],
                    "share": share,
                    "share_frame": frame if covered else None,
                    "triangles_per_px": row.triangles / (share * pixels) if covered else None,
                }
            )
        )
    textures = [
        row.model_copy(
            update={
                "need": view.needs.get(row.index),
                "seen": CLASSES[by_image[row.index]] if by_image[row.index] >= 0 else None,
            }
        )
        for row in inventory.textures
    ]
    footprints = [
        f.model_copy(
            update={"seen": CLASSES[int(view.best[f.thing])], "share": float(view.most[f.thing])}
        )
        for f in inventory.footprints
    ]
    shown = np.minimum(view.overlap, 255).astype(np.uint8)[..., None]
    found = Look(
        frames=view.frames,
        rays=view.rays,
        steady=view.steady,
        height=PICTURE_HEIGHT,
        layers_most=view.layers_most,
        layers_p99=view.layers_p99,
        overlap=base64.b64encode(encode(shown, "image/png")).decode(),
        overlap_frame=view.overlap_frame,
        fog=view.fog,
    )
    return inventory.model_copy(
        update={
            "meshes": meshes,
            "textures": textures,
            "footprints": footprints,
            "look": found,
            "stage": 3,
        }
    )


def with_lights(inventory: Inventory, scene: Scene, lit: LightView) -> Inventory:
    """The inventory with what the small renders told."""
    assert inventory.look is not None
    names = [scene.nodes[node].name for node, _ in scene.placements]
    alike: dict[str, int] = {}
    for row in inventory.lights:
        alike[row.name] = alike.get(row.name, 0) + 1
    lights = [
        row.model_copy(
            update={
                "share": lit.shares.get(row.name, 0.0) if lit.shares is not None else None,
                "together": alike[row.name],
                "reach_m": reach(row.candela, lit.mean),
                "grainy": strong_and_small(row.radiance, row.size_m, row.nearest_m, lit.mean),
            }
        )
        for row in inventory.lights
    ]
    found = inventory.look.model_copy(
        update={
            "light_frames": lit.frames,
            "mean": lit.mean,
            "blown": [(names[t], share) for t, share in lit.blown],
        }
    )
    return inventory.model_copy(update={"lights": lights, "look": found, "stage": 4})
