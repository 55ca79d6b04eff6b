"""A recipe as a form: the everyday settings first, the others in groups that open."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from mill_lane.core.recipe import Recipe
from mill_lane.core.render.layers import LAYERS
from mill_lane.core.weigh.analysis import Analysis


@dataclass(frozen=True)
class Field:
    """One line of the form."""

    name: str
    label: str
    value: Any
    kind: Literal["number", "switch", "choice", "picture", "several"] = "number"
    unit: str = ""
    step: str = "1"
    choices: tuple[tuple[str, str], ...] = ()
    required: bool = True


@dataclass(frozen=True)
class Group:
    """Settings that open together; `touched` tells that some are not as usual."""

    title: str
    fields: list[Field]
    touched: bool
    hint: str = ""


CHOICES: dict[str, tuple[tuple[str, str], ...]] = {
    "light_sampling": (
        ("estimate", "one, by estimate"),
        ("power", "one, by power"),
        ("all", "all of them"),
    ),
    "denoise": (("no", "no"), ("with", "with the picture"), ("later", "later, by itself")),
    "order": (("progressive", "progressively"), ("tiles", "in tiles")),
}
FIRST = (
    "width",
    "height",
    "samples",
    "min_samples",
    "noise",
    "converged_fraction",
    "bounces",
    "transparent_layers",
    "radiance_limit_indirect",
    "time_limit",
    "denoise",
    "exposure",
    "seed",
)
GROUPS: tuple[tuple[str, tuple[str, ...], str], ...] = (
    (
        "Bounces and clamps",
        (
            "bounces_diffuse",
            "bounces_specular",
            "bounces_transmission",
            "bounces_volume",
            "radiance_limit_direct",
            "caustics",
        ),
        "",
    ),
    (
        "More rays where grain comes from",
        ("split_diffuse", "split_specular", "split_transmission", "split_volume", "split_lights"),
        "Rays at the first thing that is met; each multiplies one component.",
    ),
    (
        "Which lights",
        (
            "light_sampling",
            "light_threshold",
            "environment_visible",
            "sun_elevation",
            "sun_azimuth",
            "sky_strength",
        ),
        "",
    ),
    (
        "Sky picture",
        ("environment_picture", "environment_rotation", "environment_intensity"),
        "An HDR or EXR of the whole sphere goes before sun and sky.",
    ),
    (
        "Camera",
        ("f_stop", "focus_distance", "shutter"),
        "F-stop 0 is sharp everywhere, shutter 0 stands still.",
    ),
    ("How it is drawn", ("order", "tile_size"), ""),
    (
        "Layers",
        ("layers",),
        "Kept in the EXR beside the picture; those that denoising needs come by themselves. "
        "Denoising over frames needs motion.",
    ),
    (
        "For previews only",
        ("russian_roulette_threshold", "pattern_block"),
        "They save time and leave blotches in dark places.",
    ),
)
PERCENT = ("noise", "converged_fraction")
LIGHT = "light:"  # before the name of a light, in the name of its field


def field(recipe: Recipe, name: str) -> Field:
    """The line of a setting, from what the recipe's model says of it."""
    info = Recipe.model_fields[name]
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    value = getattr(recipe, name)
    label, unit = str(info.title), str(extra.get("unit", ""))
    if name in CHOICES:
        return Field(name, label, value, "choice", choices=CHOICES[name])
    if name == "environment_picture":
        return Field(name, label, value, "picture")
    if name == "layers":
        every = tuple((layer, layer.replace("_", " ")) for layer in LAYERS.names)
        return Field(name, label, recipe.kept_layers, "several", choices=every)
    if isinstance(value, bool):
        return Field(name, label, value, "switch")
    if name in PERCENT:
        return Field(f"{name}_percent", label, f"{value * 100:g}", unit="%", step="any")
    whole = isinstance(value, int)
    shown = "" if value is None else value if whole else f"{value:g}"
    return Field(
        name, label, shown, unit=unit, step="1" if whole else "any", required=value is not None
    )


def first_fields(recipe: Recipe) -> list[Field]:
    """The everyday settings."""
    return [field(recipe, name) for name in FIRST]


def groups(recipe: Recipe, lights: Sequence[str]) -> list[Group]:
    """The other settings, and each light of the scene with its scale."""
    usual = Recipe()
    out = [
        Group(
            title,
            [field(recipe, n) for n in names],
            any(getattr(recipe, n) != getattr(usual, n) for n in names),
            hint,
        )
        for title, names, hint in GROUPS
    ]
    lines = [
        Field(
            f"{LIGHT}{name}", name, f"{recipe.light_scales.get(name, 1.0):g}", unit="×", step="any"
        )
        for name in dict.fromkeys(lights)
    ]
    if lines:
        out.append(Group("Each light", lines, bool(recipe.light_scales), "0 switches it off."))
    return out


def light_names(analysis: Analysis) -> list[str]:
    """Lights that can be scaled by name, the sky among them."""
    return [x.name for x in analysis.lights] + (["sky"] if analysis.environment != "none" else [])
