"""Choices that name a light, or a material that gives light."""

from __future__ import annotations

from mill_lane.core.errors import MillError
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import Choice


def chosen_light(scene: Scene, choice: Choice) -> int:
    """The number of the node that places the light that a choice names.

    Raises
    ------
    MillError
        Where there is none.
    """
    index = choice.target.index
    if not 0 <= index < len(scene.nodes) or scene.nodes[index].light < 0:
        raise MillError(f"The scene has no light “{choice.target.name}”.", "Stage it again.")
    return index


def chosen_material(scene: Scene, choice: Choice) -> int:
    """The number of the material that a choice names.

    Raises
    ------
    MillError
        Where there is none.
    """
    index = choice.target.index
    if choice.target.kind != "material" or not 0 <= index < len(scene.materials):
        raise MillError(f"The scene has no material “{choice.target.name}”.", "Stage it again.")
    return index
