"""Which extensions of glTF are read, and what is lost with those that are not."""

from __future__ import annotations

from typing import Any

from mill_lane.core.errors import MillError
from mill_lane.core.formats.choices import HOW
from mill_lane.core.scene.model import Note
from mill_lane.core.words import plural

UNDERSTOOD = {
    "EXT_mesh_gpu_instancing",
    "EXT_meshopt_compression",
    "EXT_texture_webp",
    "KHR_texture_basisu",
    "KHR_draco_mesh_compression",
    "KHR_lights_punctual",
    "KHR_materials_anisotropy",
    "KHR_materials_clearcoat",
    "KHR_materials_emissive_strength",
    "KHR_materials_ior",
    "KHR_materials_sheen",
    "KHR_materials_specular",
    "KHR_materials_transmission",
    "KHR_materials_unlit",
    "KHR_materials_variants",
    "KHR_materials_volume",
    "KHR_mesh_quantization",
    "KHR_meshopt_compression",
    "KHR_texture_transform",
}
# What is opened without: the loss is told where it is met.
DONE_WITHOUT = {"KHR_materials_pbrSpecularGlossiness", "KHR_xmp_json_ld"}
# What the picture goes without, by extension.
LOSSES = {
    "KHR_materials_iridescence": "thin films show no colours of their own",
    "KHR_materials_dispersion": "glass does not split light into colours",
    "KHR_materials_diffuse_transmission": "leaves and paper let no light through",
    "KHR_materials_pbrSpecularGlossiness": "materials are drawn with their metallic-roughness part",
    "KHR_materials_volume_scatter": "light does not scatter inside bodies",
    "KHR_animation_pointer": "what it animates stands still",
    "KHR_node_visibility": "what it hides is drawn",
    "EXT_lights_image_based": "the sky picture stays behind: choose one under “Sky picture”",
    "EXT_texture_avif": "its pictures are drawn grey unless there is a PNG or JPEG beside them",
    "MSFT_texture_dds": "the PNG or JPEG beside it is drawn",
    "MSFT_lod": "the finest level is drawn",
}


def refuse_required(name: str, root: dict[str, Any]) -> None:
    """Raise MillError where a document cannot be drawn without what is not read."""
    required = root.get("extensionsRequired")
    if not isinstance(required, list):
        return
    known = UNDERSTOOD | DONE_WITHOUT
    missing = [x for x in required if isinstance(x, str) and x not in known and x not in LOSSES]
    if missing:
        raise MillError(
            f"{name} cannot be drawn without {', '.join(missing)[:300]}, which Mill Lane does not "
            "read.",
            "Export it again without that extension.",
            "Nothing was imported.",
        )


def notes_of(root: dict[str, Any]) -> list[Note]:
    """What the document uses and is not drawn, each once, with its count and consequence."""
    used = sorted(set(map(str, root.get("extensionsUsed", []))) - UNDERSTOOD)
    notes = []
    for name in (x for x in used if x in LOSSES):
        n = _count(root, name)
        times = f" ({n} time{'s' if n > 1 else ''})" if n else ""
        text = f"{name}{times} is kept in the file, not drawn: {LOSSES[name]}."
        notes.append(Note("extension_not_drawn", "lost", text))
    others = [x for x in used if x not in LOSSES]
    if others:
        text = f"Kept in the file, not drawn: {', '.join(others)}."
        notes.append(Note("extensions_kept", "kept", text))
    variants = root.get("extensions", {}).get("KHR_materials_variants", {}).get("variants", [])
    if variants:
        names = ", ".join(str(v.get("name", "?")) for v in variants[:12])
        text = f"The file has {plural(len(variants), 'variant')} of its materials: {names}. "
        notes.append(Note("variants", "look", text + f"To choose one, {HOW}."))
    return notes


def _count(root: dict[str, Any], name: str) -> int:
    """How many things of the document have an extension."""
    total, level = 0, [root]
    while level:
        deeper: list[Any] = []
        for thing in level:
            values = thing.values() if isinstance(thing, dict) else thing
            if isinstance(thing, dict) and isinstance(thing.get("extensions"), dict):
                total += thing is not root and name in thing["extensions"]
            deeper += [v for v in values if isinstance(v, (dict, list))]
        level = deeper
    return total
