"""glTF materials (section 3.9 and the KHR_materials extensions), both ways."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from mill_lane.core.formats.gltf.keys import path_in
from mill_lane.core.scene.model import Material, TextureUse


def read_material(entry: dict[str, Any], index: int) -> Material:
    """One material.

    Raises KeyError, TypeError or ValueError where the JSON is not as the format asks.
    """
    ext = entry.get("extensions", {})
    pbr = entry.get("pbrMetallicRoughness", {})
    strength = float(ext.get("KHR_materials_emissive_strength", {}).get("emissiveStrength", 1.0))
    transmission = ext.get("KHR_materials_transmission", {})
    volume = ext.get("KHR_materials_volume", {})
    clearcoat = ext.get("KHR_materials_clearcoat", {})
    specular = ext.get("KHR_materials_specular", {})
    sheen = ext.get("KHR_materials_sheen", {})
    anisotropy = ext.get("KHR_materials_anisotropy", {})
    emissive = [float(x) * strength for x in entry.get("emissiveFactor", (0, 0, 0))]
    ior = float(ext.get("KHR_materials_ior", {}).get("ior", 1.5))
    mode = entry.get("alphaMode", "OPAQUE")
    if mode not in ("OPAQUE", "MASK", "BLEND"):
        raise ValueError(f"alphaMode {mode}")
    return Material(
        name=str(entry.get("name") or f"material {index}"),
        base_color=_tuple(pbr.get("baseColorFactor", (1, 1, 1, 1)), 4),
        metallic=float(pbr.get("metallicFactor", 1.0)),
        roughness=float(pbr.get("roughnessFactor", 1.0)),
        emissive=_tuple(emissive, 3),
        ior=ior if ior >= 1 else 1.5,
        transmission=float(transmission.get("transmissionFactor", 0.0)),
        thickness=float(volume.get("thicknessFactor", 0.0)),
        attenuation_color=_tuple(volume.get("attenuationColor", (1, 1, 1)), 3),
        attenuation_distance=float(volume.get("attenuationDistance", math.inf)),
        clearcoat=float(clearcoat.get("clearcoatFactor", 0.0)),
        clearcoat_roughness=float(clearcoat.get("clearcoatRoughnessFactor", 0.0)),
        specular=float(specular.get("specularFactor", 1.0)),
        specular_color=_tuple(specular.get("specularColorFactor", (1, 1, 1)), 3),
        sheen_color=_tuple(sheen.get("sheenColorFactor", (0, 0, 0)), 3),
        sheen_roughness=float(sheen.get("sheenRoughnessFactor", 0.0)),
        anisotropy=float(anisotropy.get("anisotropyStrength", 0.0)),
        anisotropy_rotation=float(anisotropy.get("anisotropyRotation", 0.0)),
        alpha_mode=mode,
        alpha_cutoff=float(entry.get("alphaCutoff", 0.5)),
        double_sided=bool(entry.get("doubleSided", False)),
        unlit="KHR_materials_unlit" in ext,
        base_texture=_use(pbr.get("baseColorTexture")),
        roughness_texture=_use(pbr.get("metallicRoughnessTexture")),
        normal_texture=_use(entry.get("normalTexture"), "scale"),
        emissive_texture=_use(entry.get("emissiveTexture")),
        transmission_texture=_use(transmission.get("transmissionTexture")),
        clearcoat_texture=_use(clearcoat.get("clearcoatTexture")),
        clearcoat_roughness_texture=_use(clearcoat.get("clearcoatRoughnessTexture")),
        specular_texture=_use(specular.get("specularTexture")),
        specular_color_texture=_use(specular.get("specularColorTexture")),
        sheen_color_texture=_use(sheen.get("sheenColorTexture")),
        sheen_roughness_texture=_use(sheen.get("sheenRoughnessTexture")),
        anisotropy_texture=_use(anisotropy.get("anisotropyTexture")),
        occlusion_texture=_use(entry.get("occlusionTexture"), "strength"),
        path=path_in(entry),
    )


def _tuple(values: Any, n: int) -> Any:
    out = tuple(float(x) for x in values)
    if len(out) != n or not all(map(math.isfinite, out)):
        raise ValueError(f"{values} is not {n} finite numbers")
    return out


def _use(info: dict[str, Any] | None, strength: str = "") -> TextureUse | None:
    if info is None:
        return None
    t = info.get("extensions", {}).get("KHR_texture_transform", {})
    return TextureUse(
        texture=int(info["index"]),
        offset=_tuple(t.get("offset", (0, 0)), 2),
        rotation=float(t.get("rotation", 0.0)),
        scale=_tuple(t.get("scale", (1, 1)), 2),
        strength=float(info.get(strength, 1.0)),
        uv_set=int(t.get("texCoord", info.get("texCoord", 0))),
    )


def write_material(m: Material, number: Callable[[int], int]) -> dict[str, Any]:
    """The JSON of a material; `number` tells under which number a texture is written."""
    out: dict[str, Any] = {"name": m.name}
    ext: dict[str, Any] = {}
    pbr: dict[str, Any] = {"baseColorFactor": list(m.base_color)}
    pbr |= {"metallicFactor": m.metallic, "roughnessFactor": m.roughness}
    if m.base_texture:
        pbr["baseColorTexture"] = _info(m.base_texture, number)
    if m.roughness_texture:
        pbr["metallicRoughnessTexture"] = _info(m.roughness_texture, number)
    out["pbrMetallicRoughness"] = pbr
    if m.normal_texture:
        out["normalTexture"] = _info(m.normal_texture, number, "scale")
    if m.occlusion_texture:
        out["occlusionTexture"] = _info(m.occlusion_texture, number, "strength")
    if m.emissive_texture:
        out["emissiveTexture"] = _info(m.emissive_texture, number)
    top = max(m.emissive)
    if top > 0:
        out["emissiveFactor"] = [x / max(top, 1.0) for x in m.emissive]
        if top > 1:
            ext["KHR_materials_emissive_strength"] = {"emissiveStrength": top}
    if m.transmission > 0:
        t: dict[str, Any] = {"transmissionFactor": m.transmission}
        if m.transmission_texture:
            t["transmissionTexture"] = _info(m.transmission_texture, number)
        ext["KHR_materials_transmission"] = t
    if m.ior != 1.5:
        ext["KHR_materials_ior"] = {"ior": m.ior}
    if m.thickness > 0:
        v: dict[str, Any] = {
            "thicknessFactor": m.thickness,
            "attenuationColor": list(m.attenuation_color),
        }
        if math.isfinite(m.attenuation_distance):
            v["attenuationDistance"] = m.attenuation_distance
        ext["KHR_materials_volume"] = v
    if m.clearcoat > 0:
        c: dict[str, Any] = {
            "clearcoatFactor": m.clearcoat,
            "clearcoatRoughnessFactor": m.clearcoat_roughness,
        }
        if m.clearcoat_texture:
            c["clearcoatTexture"] = _info(m.clearcoat_texture, number)
        if m.clearcoat_roughness_texture:
            c["clearcoatRoughnessTexture"] = _info(m.clearcoat_roughness_texture, number)
        ext["KHR_materials_clearcoat"] = c
    ext |= _layers(m, number)
    if m.unlit:
        ext["KHR_materials_unlit"] = {}
    if m.alpha_mode != "OPAQUE":
        out["alphaMode"] = m.alpha_mode
    if m.alpha_mode == "MASK":
        out["alphaCutoff"] = m.alpha_cutoff
    if m.double_sided:
        out["doubleSided"] = True
    if ext:
        out["extensions"] = ext
    return out


def _layers(m: Material, number: Callable[[int], int]) -> dict[str, Any]:
    """The extensions of what lies on a plain dielectric or metal."""
    out: dict[str, Any] = {}
    tinted = m.specular != 1.0 or m.specular_color != (1.0, 1.0, 1.0)
    if tinted or m.specular_texture or m.specular_color_texture:
        s: dict[str, Any] = {
            "specularFactor": m.specular,
            "specularColorFactor": list(m.specular_color),
        }
        if m.specular_texture:
            s["specularTexture"] = _info(m.specular_texture, number)
        if m.specular_color_texture:
            s["specularColorTexture"] = _info(m.specular_color_texture, number)
        out["KHR_materials_specular"] = s
    if max(m.sheen_color) > 0:
        s = {"sheenColorFactor": list(m.sheen_color), "sheenRoughnessFactor": m.sheen_roughness}
        if m.sheen_color_texture:
            s["sheenColorTexture"] = _info(m.sheen_color_texture, number)
        if m.sheen_roughness_texture:
            s["sheenRoughnessTexture"] = _info(m.sheen_roughness_texture, number)
        out["KHR_materials_sheen"] = s
    if m.anisotropy:
        s = {"anisotropyStrength": m.anisotropy, "anisotropyRotation": m.anisotropy_rotation}
        if m.anisotropy_texture:
            s["anisotropyTexture"] = _info(m.anisotropy_texture, number)
        out["KHR_materials_anisotropy"] = s
    return out


def _info(use: TextureUse, number: Callable[[int], int], strength: str = "") -> dict[str, Any]:
    info: dict[str, Any] = {"index": number(use.texture)}
    if use.uv_set:
        info["texCoord"] = use.uv_set
    if strength and use.strength != 1.0:
        info[strength] = use.strength
    if use.offset != (0, 0) or use.rotation or use.scale != (1, 1):
        info["extensions"] = {
            "KHR_texture_transform": {
                "offset": list(use.offset),
                "rotation": use.rotation,
                "scale": list(use.scale),
            }
        }
    return info
