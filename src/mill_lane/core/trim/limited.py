"""A scene with pictures no larger than a shot can show, for rendering crops of it soon.

Levels of a texture that no ray reads change nothing: four times the texels that 98 of 100 places
need are kept, two levels more than are read there.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from mill_lane.core.errors import MillError
from mill_lane.core.formats.small_pictures import flat_image, small_image
from mill_lane.core.render.in_order import in_order
from mill_lane.core.scene.edit import replace_images
from mill_lane.core.scene.model import Image, Scene
from mill_lane.core.weigh.analysis import Analysis

MARGIN = 4.0
UNSEEN = 64  # pixels of a picture that no ray met
Cache = dict[tuple[int, Callable[[], bytes]], Image]


def limits_of(analysis: Analysis, height: int) -> dict[int, int]:
    """The longest side that each picture needs for crops of a picture so high, by its index.

    Empty before the shot was looked at: then all are needed as they are.
    """
    if analysis.visibility is None:
        return {}
    scale = MARGIN * height / analysis.visibility.height
    return {
        t.index: max(UNSEEN, round(max(t.texel_need) * scale)) if t.texel_need else UNSEEN
        for t in analysis.textures
    }


def limited(scene: Scene, limits: dict[int, int], threads: int, kept: Cache) -> Scene:
    """The scene with pictures within limits.

    Parameters
    ----------
    scene : Scene
    limits : dict
        Pixels of the longer side, by index of the image.
    threads : int
    kept : dict
        What was made already, taken from and added to.
    """
    wanted = [
        i
        for i, image in enumerate(scene.images)
        if i in limits and max(image.width, image.height) > 2 * limits[i] and not image.missing
    ]

    def made(k: int) -> Any:
        image = scene.images[wanted[k]]
        key = (wanted[k], image.read)
        if key not in kept:
            try:
                kept[key] = small_image(image, limits[wanted[k]])
            except (MillError, OSError, ValueError):
                kept[key] = flat_image(image, "colour")
        return kept[key]

    found = dict(zip(wanted, in_order(made, len(wanted), threads), strict=True))
    return replace_images(scene, found)
