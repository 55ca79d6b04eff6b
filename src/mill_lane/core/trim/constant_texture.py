"""Pictures of a single value, replaced by a factor of the materials that use them."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from pydantic import BaseModel

from mill_lane.core.image.srgb import to_linear
from mill_lane.core.progress import Progress, silent
from mill_lane.core.render.sizes import image_bytes
from mill_lane.core.scene.model import Material, Scene, TextureUse
from mill_lane.core.scene.unused import SLOTS
from mill_lane.core.trim.model import (
    Change,
    Choice,
    Nothing,
    OpenScene,
    Proposal,
    Target,
    Trim,
)
from mill_lane.core.trim.pictures import chosen_images, decoded, with_rows
from mill_lane.core.weigh.analysis import Analysis, TextureRow
from mill_lane.core.weigh.images import constant_of

FLAT = 3 / 255  # by which a normal map may differ from straight up, as 8-bit codes are rounded
Factors = dict[str, Any]


class ConstantTexture(Trim):
    """Replaces pictures of a single value by factors."""

    name = "constant_texture"
    title = "Single-value pictures"
    parameters_type = Nothing
    choice_type = Nothing
    exact = True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find pictures of a single value; see `Trim.propose`."""
        out = []
        for row in analysis.textures:
            if row.constant is None or row.missing:
                continue
            saved = 0 if kept(row) else row.memory_bytes
            out.append(
                Proposal(
                    trim=self.name,
                    target=Target(kind="image", index=row.index, name=row.name),
                    parameters={},
                    before=[row.width, row.height],
                    after="a factor",
                    memory_before_bytes=row.memory_bytes,
                    memory_saved_bytes=saved,
                    file_saved_bytes=row.file_bytes if saved else 0,
                    facts={"value": row.constant},
                    left_alone=kept(row),
                )
            )
        return sorted(out, key=lambda p: -p.memory_saved_bytes)

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Put factors in the place of the chosen pictures; see `Trim.apply`."""
        changes = []
        materials = list(scene.materials)
        chosen = chosen_images(scene, choices)
        for k, (index, choice) in enumerate(sorted(chosen.items())):
            image = scene.images[index]
            value = constant_of(decoded(image))
            if value is None:
                continue
            textures = {i for i, t in enumerate(scene.textures) if t.image == index}
            materials = [without(m, textures, value) for m in materials]
            left = any(use.texture in textures for m in materials for _, use in m.uses())
            changes.append(
                Change(
                    kind=self.name,
                    target=image.name,
                    key=choice.target.key,
                    from_=[image.width, image.height],
                    to="a factor",
                    memory_saved_bytes=0 if left else image_bytes(image),
                    file_saved_bytes=0 if left else image.file_bytes,
                )
            )
            progress((k + 1) / len(chosen), f"textures: {k + 1} of {len(chosen)}")
        return replace(scene, materials=tuple(materials)), changes

    def describe(self, change: Change) -> str:
        """Tell that a factor stands for the picture."""
        width, height = change.from_
        return f"{width} × {height} px → a factor"

    def explain(self, proposal: Proposal) -> str:
        """Tell the value."""
        values = ", ".join(f"{x:.3f}" for x in proposal.facts["value"])
        return f"{values} in every pixel"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many pictures went."""
        many = "s of a single value" if len(changes) != 1 else " of a single value"
        return f"{len(changes)} picture{many} replaced by a factor"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict that the chosen pictures hold nothing; see `Trim.foresee`."""
        chosen = {c.target.index for c in choices}
        rows = {
            t.index: t.model_copy(update={"memory_bytes": 0, "file_bytes": 0})
            for t in analysis.textures
            if t.index in chosen and not kept(t)
        }
        return with_rows(analysis, rows)


def kept(row: TextureRow) -> str:
    """Why a picture of a single value stays; empty where a factor can stand for it."""
    assert row.constant is not None
    if "normal" in row.role.split(", ") and not straight_up(row.constant):
        return "tilts every normal the same way, which no factor can"
    return ""


def straight_up(value: Sequence[float]) -> bool:
    """Whether a normal map's value is the surface's own normal."""
    wanted = (0.5, 0.5, 1.0)
    return len(value) >= 3 and all(
        abs(x - w) <= FLAT for x, w in zip(value[:3], wanted, strict=True)
    )


def without(m: Material, textures: set[int], value: Sequence[float]) -> Material:
    """The material with factors in the place of some textures, all of that value (0 to 1)."""
    for slot in SLOTS:
        use: TextureUse | None = getattr(m, slot)
        if use is None or use.texture not in textures:
            continue
        factors = FACTORS[slot](m, value)
        if factors is not None:
            m = replace(m, **{slot: None, **factors})
    return m


def _rgba(value: Sequence[float]) -> tuple[list[float], float]:
    """Linear colour and alpha of a value of one to four channels."""
    colours = list(value[:3]) if len(value) > 2 else [value[0]] * 3
    return to_linear(np.array(colours)).tolist(), value[-1] if len(value) in (2, 4) else 1.0


def _channel(value: Sequence[float], k: int) -> float:
    """A channel of data; a grey picture is the same in red, green and blue."""
    return float(value[k] if len(value) > 2 else value[0])


def _base(m: Material, value: Sequence[float]) -> Factors:
    colour, alpha = _rgba(value)
    *old, opacity = m.base_color
    return {"base_color": (*(a * b for a, b in zip(old, colour, strict=True)), opacity * alpha)}


def _tint(field: str, m: Material, value: Sequence[float]) -> Factors:
    old = getattr(m, field)
    return {field: tuple(a * b for a, b in zip(old, _rgba(value)[0], strict=True))}


def _scale(field: str, k: int, m: Material, value: Sequence[float]) -> Factors:
    return {field: getattr(m, field) * _channel(value, k)}


def _by_alpha(field: str, m: Material, value: Sequence[float]) -> Factors:
    return {field: getattr(m, field) * _rgba(value)[1]}


def _rough(m: Material, value: Sequence[float]) -> Factors:
    return _scale("roughness", 1, m, value) | _scale("metallic", 2, m, value)


def _normal(m: Material, value: Sequence[float]) -> Factors | None:
    return {} if straight_up(value) else None


def _anisotropy(m: Material, value: Sequence[float]) -> Factors:
    # Red and green are a direction, -1 to 1, blue its strength (KHR_materials_anisotropy).
    x, y = 2 * _channel(value, 0) - 1, 2 * _channel(value, 1) - 1
    turned = m.anisotropy_rotation + math.atan2(y, x)
    return {"anisotropy": m.anisotropy * _channel(value, 2), "anisotropy_rotation": turned}


FACTORS: dict[str, Callable[[Material, Sequence[float]], Factors | None]] = {
    "base_texture": _base,
    "roughness_texture": _rough,
    "normal_texture": _normal,
    "emissive_texture": partial(_tint, "emissive"),
    "transmission_texture": partial(_scale, "transmission", 0),
    "clearcoat_texture": partial(_scale, "clearcoat", 0),
    "clearcoat_roughness_texture": partial(_scale, "clearcoat_roughness", 1),
    "specular_texture": partial(_by_alpha, "specular"),
    "specular_color_texture": partial(_tint, "specular_color"),
    "sheen_color_texture": partial(_tint, "sheen_color"),
    "sheen_roughness_texture": partial(_by_alpha, "sheen_roughness"),
    "anisotropy_texture": _anisotropy,
    "occlusion_texture": lambda m, value: {},
}
