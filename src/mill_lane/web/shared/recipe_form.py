"""The fields of a recipe as lines of a form: what each is called, means, and may be."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, Literal

from annotated_types import Ge, Gt, Le

from mill_lane.core.recipe import MOST_SAMPLES, Recipe
from mill_lane.core.render.layers import LAYER_WORDS, LAYERS

CHOICES: dict[str, tuple[tuple[str, str], ...]] = {
    "light_sampling": (
        ("estimate", "one, by estimate"),
        ("power", "one, by power"),
        ("all", "all of them"),
    ),
    "denoise": (("no", "not at all"), ("with", "with each frame"), ("later", "afterwards")),
    "order": (("progressive", "progressively"), ("tiles", "in tiles")),
}
PERCENT = ("noise", "converged_fraction")
COUNTS = ("samples", "min_samples")  # told as so many by so many, too
LIGHT = "light:"  # before the name of a light, in the name of its field
# What a field does, in a sentence.
HELP = {
    "width": "Time goes with the number of pixels, though not all of it.",
    "height": "",
    "samples": "A pixel gets no more than this.",
    "min_samples": "A pixel gets these before its noise is looked at; too few, and small bright "
    "things are missed.",
    "noise": "A pixel is left alone once its noise is below this; 0: it gets all its samples.",
    "converged_fraction": "The picture ends once this share of its pixels is clean.",
    "time_limit": "It ends after this time with what it has; 0: none.",
    "bounces": "How often light is followed from surface to surface. Dark corners need more.",
    "bounces_diffuse": "Of these, off matt surfaces.",
    "bounces_specular": "Of these, off shiny ones.",
    "bounces_transmission": "Through glass; too few make it black.",
    "bounces_volume": "In fog.",
    "transparent_layers": "Panes, leaves and cards one behind another that a ray passes.",
    "radiance_limit_indirect": "Takes bright dots out of bounced light, and some light with them; "
    "0: off.",
    "radiance_limit_direct": "The same for light straight from lamps; 0: off.",
    "caustics": "Light that glass and mirrors throw on matt surfaces: often grain.",
    "light_sampling": "From each point: one lamp that counts there, one by its power, or all.",
    "light_threshold": "Lamps that give a point less than this are left out; 0: none.",
    "environment_visible": "Whether the camera sees the sky, or only its light.",
    "sun_elevation": "Above the horizon; empty: the scene's own sky.",
    "sun_azimuth": "Where it stands, round the horizon.",
    "sky_strength": "Of sun and sky together.",
    "environment_picture": "An HDR or EXR of the whole sphere goes before sun and sky.",
    "environment_rotation": "Round the upright axis.",
    "environment_intensity": "How many times as bright as in the file.",
    "f_stop": "A smaller number blurs more; 0: sharp everywhere.",
    "focus_distance": "From the camera to what is sharp.",
    "shutter": "How much of a frame it stays open; 0: nothing is blurred by moving.",
    "split_diffuse": "Rays at the first thing that is met, where grain is in matt light.",
    "split_specular": "The same where it is in reflections.",
    "split_transmission": "The same behind glass.",
    "split_volume": "The same in fog.",
    "split_lights": "The same where it is in soft shadows.",
    "denoise": "With each frame: at once, the scene still in memory. Afterwards: when nothing else "
    "is done.",
    "exposure": "For what is shown and for PNG; the EXR stays as it is.",
    "seed": "Another number, another grain; films take one for each frame by themselves.",
    "order": "All of it again and again, or tile by tile, each finished.",
    "tile_size": "Small tiles share work out evenly; large ones read textures better.",
    "layers": "Kept in the EXR beside the picture. Denoising takes what it needs by itself; over "
    "frames it needs motion.",
    "russian_roulette_threshold": "Saves time in dark places and adds grain there; 0: off.",
    "pattern_block": "Neighbours share their random numbers: quick, with blotches. For looking.",
}


@dataclass(frozen=True)
class Field:
    """One line of the form.

    Attributes
    ----------
    name, label : str
    value : object
        As the field has it.
    kind : str
    unit, step : str
    choices : tuple
        Of (value, title).
    required : bool
    low, high : str
        What is allowed; empty where there is no end.
    help : str
        A sentence.
    usual : str or None
        What it would be put back to; None where it is that.
    usual_text : str
        The same in words.
    alone : bool
        Whether it can be left on by itself, all others of its line off: a light.
    """

    name: str
    label: str
    value: Any
    kind: Literal["number", "switch", "choice", "picture", "several"] = "number"
    unit: str = ""
    step: str = "1"
    choices: tuple[tuple[str, str], ...] = ()
    required: bool = True
    low: str = ""
    high: str = ""
    help: str = ""
    usual: str | None = None
    usual_text: str = ""
    alone: bool = False


def square(count: int) -> str:
    """Samples as so many by so many: "8 × 8"; "near 25 × 25 = 625" where it is none."""
    if count < 2 or count >= MOST_SAMPLES:
        return ""
    side = max(1, round(math.sqrt(count)))
    if side * side == count:
        return f"{side} × {side}"
    return f"near {side} × {side} = {side * side}"


def field(recipe: Recipe, name: str, usual: Recipe | None = None) -> Field:
    """The line of a setting, from what the recipe's model says of it; what it usually is, where it
    is something else.
    """
    info = Recipe.model_fields[name]
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    value, label = getattr(recipe, name), str(info.title)
    more: dict[str, Any] = {"help": HELP.get(name, ""), "unit": str(extra.get("unit", ""))}
    if usual is not None and getattr(usual, name) != value:
        more |= {
            "usual": _entered(usual, name),
            "usual_text": _in_words(usual, name, str(more["unit"])),
        }
    if name in CHOICES:
        return Field(name, label, value, "choice", choices=CHOICES[name], **more)
    if name == "environment_picture":
        return Field(name, label, value, "picture", **more)
    if name == "layers":
        every = tuple((layer, LAYER_WORDS.get(layer, layer)) for layer in LAYERS.names)
        more["usual"] = None  # it is put back box by box
        return Field(name, label, recipe.kept_layers, "several", choices=every, **more)
    if isinstance(value, bool):
        return Field(name, label, value, "switch", **more)
    whole = isinstance(value, int)
    low, high = _range(info.metadata, 100 if name in PERCENT else 1)
    more |= {"low": low, "high": high, "step": "1" if whole else "any"}
    if name in PERCENT:
        more["unit"] = "%"
    sent = f"{name}_percent" if name in PERCENT else name
    return Field(sent, label, _entered(recipe, name), required=value is not None, **more)


def light_field(recipe: Recipe, name: str, usual: Recipe | None = None, known: str = "") -> Field:
    """The line of a light's scale, with what is known of it."""
    scale = recipe.light_scales.get(name, 1.0)
    before = usual.light_scales.get(name, 1.0) if usual is not None else scale
    return Field(
        f"{LIGHT}{name}",
        name,
        f"{scale:g}",
        unit="×",
        step="any",
        low="0",
        usual=f"{before:g}" if before != scale else None,
        usual_text=f"× {before:g}",
        help=known,
        alone=True,
    )


def _range(metadata: list[Any], factor: float) -> tuple[str, str]:
    low = high = ""
    for limit in metadata:
        if isinstance(limit, Ge | Gt):
            edge: Any = limit.ge if isinstance(limit, Ge) else limit.gt
            low = f"{float(edge) * factor:g}"
        if isinstance(limit, Le):
            edge = limit.le
            high = f"{float(edge) * factor:.12g}"
    return low, high


def _entered(recipe: Recipe, name: str) -> str:
    """A setting as its field has it."""
    value = getattr(recipe, name)
    if name in PERCENT:
        return f"{value * 100:g}"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return f"{value:g}"
    return "" if value is None else str(value)


def _in_words(recipe: Recipe, name: str, unit: str) -> str:
    value = getattr(recipe, name)
    if name in CHOICES:
        return dict(CHOICES[name])[value]
    if isinstance(value, bool):
        return "on" if value else "off"
    if name == "environment_picture":
        return value.split("/")[2] if value else "none"
    if name == "samples" and recipe.endless:
        return "no end"
    entered = _entered(recipe, name) or "none"
    return f"{entered} {'%' if name in PERCENT else unit}".strip()
