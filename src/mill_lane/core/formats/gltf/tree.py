"""Patching JSON where two descriptions of a thing differ."""

from __future__ import annotations

import copy
from collections.abc import Callable

from mill_lane.core.formats.gltf.entries import Json
from mill_lane.core.formats.gltf.materials import write_material
from mill_lane.core.scene.model import Material

STRENGTH = "KHR_materials_emissive_strength"


def patch_tree(entry: Json, before: Json, after: Json) -> None:
    """Change an entry where `after` says something else than `before`, and leave all else of it.

    Parameters
    ----------
    entry : dict
        What stands in the file, with things that neither description knows; changed in place.
    before, after : dict
        How the thing would be written as it was read, and as it is.
    """
    for key in {**before, **after}:
        old, new = before.get(key), after.get(key)
        if old == new and (key in before) == (key in after):
            continue
        own = entry.get(key)
        if isinstance(new, dict) and isinstance(own, dict):
            patch_tree(own, old if isinstance(old, dict) else {}, new)
        elif key in after:
            entry[key] = copy.deepcopy(new)
        elif isinstance(old, dict) and isinstance(own, dict):
            patch_tree(own, old, {})
            if not own:
                del entry[key]
        else:
            entry.pop(key, None)


def write_material_over(
    entry: Json, was: Material | None, m: Material, number: Callable[[int], int]
) -> None:
    """Change a material's entry to what the material is now.

    Parameters
    ----------
    entry : dict
        Changed in place; extensions and extras that are not understood stay.
    was : Material or None
        The material as it was read; None for a new one.
    m : Material
    number : callable
        The number in the file of a texture of the scene.
    """
    after = write_material(m, number)
    if was is None:
        patch_tree(entry, {}, after)
        return
    before = write_material(was, lambda k: k)
    if before == after:
        return
    if was.emissive != m.emissive:
        # Factor and strength are one thing: a file may divide them otherwise than we do.
        entry.pop("emissiveFactor", None)
        entry.get("extensions", {}).pop(STRENGTH, None)
        before.pop("emissiveFactor", None)
        before.get("extensions", {}).pop(STRENGTH, None)
    for name in ("KHR_materials_transmission", "KHR_materials_volume", "KHR_materials_clearcoat"):
        _whole(entry, before, after, name)
    patch_tree(entry, before, after)
    if entry.get("extensions") == {}:
        del entry["extensions"]


def _whole(entry: Json, before: Json, after: Json, name: str) -> None:
    """Let an extension that is no longer wanted go as a whole."""
    if name in before.get("extensions", {}) and name not in after.get("extensions", {}):
        entry.get("extensions", {}).pop(name, None)
        del before["extensions"][name]
