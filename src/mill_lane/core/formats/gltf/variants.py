"""Variants of materials (KHR_materials_variants): which there are, and choosing one."""

from __future__ import annotations

from dataclasses import replace

from mill_lane.core.errors import MillError
from mill_lane.core.formats.choices import Choices, no_variant
from mill_lane.core.formats.gltf.keys import VARIANTS, names_in
from mill_lane.core.formats.gltf.origin import Origin
from mill_lane.core.scene.model import Part, Scene, VariantSet

NOTHING = "Nothing was imported."


def variant_names(scene: Scene) -> list[str]:
    """The variants that the scene's file has, by name."""
    if not isinstance(scene.origin, Origin):
        return []
    return names_in(scene.origin.document.json)


def with_variant(scene: Scene, name: str) -> Scene:
    """The scene in the materials of one variant.

    Raises MillError when there is none of that name.
    """
    names = variant_names(scene)
    if name not in names:
        raise no_variant("", name, {"": names} if names else {})
    number = names.index(name)
    entries = scene.origin.document.json["meshes"]

    def dressed(part: Part) -> Part:
        mesh, primitive = part.source
        if mesh < 0:
            return part
        own = entries[mesh]["primitives"][primitive].get("extensions", {}).get(VARIANTS, {})
        for mapping in own.get("mappings", []):
            if number in mapping.get("variants", []):
                material = int(mapping["material"])
                if 0 <= material < len(scene.materials):
                    return replace(part, material=material)
        return part

    meshes = tuple(replace(m, parts=tuple(map(dressed, m.parts))) for m in scene.meshes)
    return replace(scene, meshes=meshes, variant_sets=(VariantSet("", tuple(names), name),))


def chosen(scene: Scene, choices: Choices) -> Scene:
    """The scene in the variants that were chosen.

    Raises MillError for those that are not there, and for payloads, which glTF does not have.
    """
    if choices.left_out:
        raise MillError(
            "A glTF file has no payloads.", "Leave that out, and open it again.", NOTHING
        )
    for _, name in choices.variants:
        scene = with_variant(scene, name)
    return scene
