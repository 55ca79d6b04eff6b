"""What tests of trims share: asking and applying."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from mill_lane.core.formats.pictures import encode
from mill_lane.core.scene.model import Image, Material, Scene, Texture, TextureUse
from mill_lane.core.trim import TRIMS, apply_choices
from mill_lane.core.trim.model import Change, Proposal, parameters_of
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.full import with_images
from mill_lane.core.weigh.images import inspect_image
from mill_lane.core.weigh.measure import weigh
from tests.scenes import WHITE, even_sky, floor, render, scene_of


def image_of(pixels: np.ndarray, name: str = "picture", mime: str = "image/png") -> Image:
    """An image of pixels (H, W, C)."""
    data = encode(np.ascontiguousarray(pixels), mime)
    h, w, c = pixels.shape
    bits = 8 * pixels.dtype.itemsize
    return Image(name, mime, w, h, c, bits, len(data), partial(bytes, data))


def dressed(*pictures: Image, **slots: int) -> Scene:
    """A floor seen from above under an even sky; `slots` names the picture of each texture."""
    uses: Any = {f"{name}_texture": TextureUse(k) for name, k in slots.items()}
    m = replace(WHITE, name="cloth", **uses)
    scene = scene_of((floor(2.0), m), eye=(0, 3, 0.1), at=(0, 0, 0), environment=even_sky())
    textures = tuple(Texture(p.name, i) for i, p in enumerate(pictures))
    return replace(scene, images=tuple(pictures), textures=textures)


def looked_into(scene: Scene) -> Analysis:
    """Weighed, with every picture decoded."""
    return with_images(weigh(scene), [inspect_image(x) for x in scene.images])


def proposed(scene: Scene, trim: str, analysis: Analysis | None = None, **values: Any) -> Any:
    """What a trim proposes for a scene."""
    found = TRIMS[trim]
    a = analysis or looked_into(scene)
    return found.propose(lambda: scene, a, parameters_of(found, values))


def applied(scene: Scene, proposals: Sequence[Proposal]) -> tuple[Scene, list[Change]]:
    """Everything proposed that is not left alone, applied."""
    return apply_choices(scene, [p.choice for p in proposals if not p.left_alone])


def pixels_of(scene: Scene, **more: Any) -> np.ndarray:
    """The picture of a scene, the same seed each time."""
    values: dict[str, Any] = {"samples": 8, "size": 24} | more
    film = render(scene, **values).film
    return film.light / values["samples"]


def material_of(scene: Scene, k: int = 0) -> Material:
    """A material of a scene."""
    return scene.materials[k]
