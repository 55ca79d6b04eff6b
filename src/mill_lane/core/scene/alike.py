"""Materials that are the same but for their name."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from mill_lane.core.scene.model import Material, Scene
from mill_lane.core.scene.unused import SLOTS


def first_alike(scene: Scene) -> list[int]:
    """For each material the first that looks the same, which is most often itself.

    Textures count by the picture that they show and the way in which it is laid out.
    """
    first: dict[Any, int] = {}
    return [first.setdefault(look_of(scene, m), i) for i, m in enumerate(scene.materials)]


def look_of(scene: Scene, m: Material) -> Any:
    """Everything of a material that is drawn, to be compared."""
    bare: dict[str, Any] = dict.fromkeys(SLOTS)
    plain = replace(m, name="", path="", source=-1, **bare)
    uses = []
    for slot in SLOTS:
        use = getattr(m, slot)
        if use is not None:
            t = scene.textures[use.texture]
            uses.append((slot, replace(use, texture=0), t.image, t.wrap_u, t.wrap_v))
    return plain, tuple(uses)
