"""Lights that trims are about: by the node that places one, or by the material that gives light."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

from mill_lane.core.errors import MillError
from mill_lane.core.scene.edit import replace_material, replace_node
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import Choice
from mill_lane.core.weigh.analysis import Analysis, LightRow


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


def lights_by_source(analysis: Analysis) -> dict[tuple[int, int], list[LightRow]]:
    """The rows of lights by (node, -1), or by (-1, material): surfaces of one go together."""
    groups: dict[tuple[int, int], list[LightRow]] = {}
    for row in analysis.lights:
        key = (-1, row.material) if row.material >= 0 else (row.node, -1)
        groups.setdefault(key, []).append(row)
    return groups


def share_of(rows: Sequence[LightRow]) -> float | None:
    """The share of the light of some lights; lights of one name were measured together."""
    shares = {row.name: row.share for row in rows}
    known = [x for x in shares.values() if x is not None]
    return sum(known) if len(known) == len(shares) else None


def put_out(scene: Scene, nodes: Collection[int], materials: Collection[int]) -> Scene:
    """The scene without the light that some nodes place, and that some materials give."""
    for i in nodes:
        scene = replace_node(scene, i, replace(scene.nodes[i], light=-1))
    for i in materials:
        dark = replace(scene.materials[i], emissive=(0.0, 0.0, 0.0), emissive_texture=None)
        scene = replace_material(scene, i, dark)
    return scene


def without_lights(
    analysis: Analysis, nodes: Collection[int], materials: Collection[int]
) -> Analysis:
    """The analysis without the lights of some nodes and materials."""
    lights = [
        x
        for x in analysis.lights
        if not (x.material in materials if x.material >= 0 else x.node in nodes)
    ]
    return analysis.model_copy(update={"lights": lights})
