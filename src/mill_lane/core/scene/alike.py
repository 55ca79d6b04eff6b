"""Materials that are the same but for their name."""

from __future__ import annotations

import hashlib
from collections import Counter
from dataclasses import replace
from typing import Any

from mill_lane.core.scene.model import Image, Material, Scene
from mill_lane.core.scene.unused import SLOTS


def first_alike(scene: Scene) -> list[int]:
    """For each material the first that looks the same, which is most often itself.

    Textures count by the picture that they show and the way in which it is laid out; pictures that
    are stored twice, bit for bit, are one.
    """
    first: dict[Any, int] = {}
    pictures = first_pictures(scene)
    return [first.setdefault(look_of(scene, m, pictures), i) for i, m in enumerate(scene.materials)]


def first_pictures(scene: Scene) -> list[int]:
    """For each image the first with the same bytes; only those of equal size are read."""
    sizes = Counter(_size(m) for m in scene.images)
    first: dict[Any, int] = {}
    out = []
    for i, m in enumerate(scene.images):
        if m.missing or sizes[_size(m)] < 2:
            out.append(i)
            continue
        key = (*_size(m), hashlib.sha256(m.read()).digest())
        out.append(first.setdefault(key, i))
    return out


def _size(m: Image) -> tuple[str, int, int, int]:
    return m.mime, m.width, m.height, m.file_bytes


def look_of(scene: Scene, m: Material, pictures: list[int]) -> Any:
    """Everything of a material that is drawn, to be compared."""
    bare: dict[str, Any] = dict.fromkeys(SLOTS)
    plain = replace(m, name="", path="", source=-1, **bare)
    uses = []
    for slot in SLOTS:
        use = getattr(m, slot)
        if use is not None:
            t = scene.textures[use.texture]
            uses.append((slot, replace(use, texture=0), pictures[t.image], t.wrap_u, t.wrap_v))
    return plain, tuple(uses)
