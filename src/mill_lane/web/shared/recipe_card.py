"""A recipe as a card: a few lines in plain words, each opening into the few fields behind it."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType
from typing import Any

from mill_lane.core.recipe import DRAFT, FINAL, Recipe
from mill_lane.core.render.settings import SENSOR_HEIGHT
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.web.shared.format import percent
from mill_lane.web.shared.recipe_form import COUNTS, Field, field, light_field, square

FAR = 12.0  # metres that the picture of what is sharp reaches, at least


@dataclass(frozen=True)
class Line:
    """A line of the card.

    Attributes
    ----------
    name : str
    title : str
        A word or two in front.
    text : str
        What is set, in plain words.
    fields : list of Field
    words : str
        What a search finds it by.
    stands : bool
        Whether it matters in this scene, or is not as usual: it stands open to see.
    changed : list of Field
        What is not as usual.
    drawing : dict
        What its small picture is drawn from; empty where it has none.
    """

    name: str
    title: str
    text: str
    fields: list[Field]
    words: str
    stands: bool
    changed: list[Field]
    drawing: dict[str, Any]


@dataclass(frozen=True)
class Scene:
    """What of a scene a card goes by."""

    lights: tuple[str, ...]
    fog: bool
    glass: bool
    sky: bool
    moves: bool


@dataclass(frozen=True)
class _Kind:
    """How a line is made."""

    name: str
    title: str
    fields: tuple[str, ...]
    text: Callable[[Recipe, Scene, Recipe], str]
    stands: Callable[[Scene], bool] = lambda scene: True
    words: str = ""
    drawing: Callable[[Recipe], dict[str, Any]] = lambda recipe: {}


def scene_of(analysis: Analysis) -> Scene:
    """What of a scene a card goes by."""
    first, last = analysis.frames
    return Scene(
        lights=tuple(dict.fromkeys(light_names(analysis))),
        fog=analysis.media > 0,
        glass=analysis.transparent_materials > 0,
        sky=analysis.environment != "none",
        moves=last > first,
    )


def light_names(analysis: Analysis) -> list[str]:
    """Lights that can be scaled by name, the sky among them."""
    return [x.name for x in analysis.lights] + (["sky"] if analysis.environment != "none" else [])


def usual_recipe(role: str) -> Recipe:
    """What a recipe of a role is before anybody changes it."""
    return DRAFT if role == "draft" else FINAL


def card(
    recipe: Recipe,
    analysis: Analysis,
    final: Recipe,
    usual: Recipe | None = None,
    of_lights: Mapping[str, str] = MappingProxyType({}),
) -> list[Line]:
    """The lines of a recipe.

    Parameters
    ----------
    recipe : Recipe
    analysis : Analysis
        Of the scene: what has nothing to do there stays behind.
    final : Recipe
        Against which its size is told.
    usual : Recipe, optional
        Against which it is told what is otherwise.
    of_lights : mapping, optional
        What is said of each light beside its switch (`light_words`).
    """
    scene = scene_of(analysis)
    return [_line(kind, recipe, scene, final, usual, of_lights) for kind in KINDS]


def _line(
    kind: _Kind,
    recipe: Recipe,
    scene: Scene,
    final: Recipe,
    usual: Recipe | None,
    of_lights: Mapping[str, str],
) -> Line:
    fields = [_counted(field(recipe, name, usual), recipe) for name in kind.fields]
    fields = [f for f in fields if _matters(f, scene) or f.usual is not None]
    if kind.name == "lights":
        known = ((name, of_lights.get(name, "")) for name in scene.lights)
        fields += [light_field(recipe, name, usual, words) for name, words in known]
    changed = [f for f in fields if f.usual is not None]
    words = " ".join([kind.title, kind.words, *(f"{f.label} {f.help}" for f in fields)])
    return Line(
        kind.name,
        kind.title,
        kind.text(recipe, scene, final),
        fields,
        words.lower(),
        kind.stands(scene) or bool(changed),
        changed,
        kind.drawing(recipe),
    )


def _counted(f: Field, recipe: Recipe) -> Field:
    """A number of samples also as so many by so many."""
    if f.name not in COUNTS:
        return f
    found = square(getattr(recipe, f.name))
    return replace(f, help=f"{found}. {f.help}" if found else f.help)


def _matters(f: Field, scene: Scene) -> bool:
    """Whether a field does anything in the scene."""
    if f.name.endswith("_volume"):
        return scene.fog
    return scene.glass or not f.name.endswith("_transmission")


# --- in words ---
def _size(r: Recipe, scene: Scene, final: Recipe) -> str:
    said = f"{r.width} × {r.height}"
    if (r.width, r.height) == (final.width, final.height):
        return said
    if abs(r.width * final.height - r.height * final.width) <= max(final.width, final.height):
        share = r.height / final.height
        half = "half" if abs(share - 0.5) < 0.005 else percent(share)
        return f"{said}, {half} of the final size"
    return f"{said}, another shape than the final {final.width} × {final.height}"


def _samples(r: Recipe, scene: Scene, final: Recipe) -> str:
    most = "no end" if r.endless else f"at most {r.samples} samples"
    if r.noise <= 0:
        said = most if r.endless else f"{r.samples} samples a pixel"
    else:
        said = f"{most}, at least {r.min_samples}; a pixel is left alone at {percent(r.noise)}"
        if r.min_samples >= r.samples:
            said += ", which never happens: at least and at most are the same"
        elif r.converged_fraction < 1:
            said += f", all of it at {percent(r.converged_fraction)} clean"
    return f"{said}; {r.time_limit:g} s at most" if r.time_limit else said


def _bounces(r: Recipe, scene: Scene, final: Recipe) -> str:
    bounces = "no bounces" if not r.bounces else f"{r.bounces} bounces"
    if r.bounces == 1:
        bounces = "1 bounce"
    return f"{bounces}, {r.transparent_layers} transparent layers"


def _clamps(r: Recipe, scene: Scene, final: Recipe) -> str:
    said = []
    if r.radiance_limit_indirect:
        said.append(f"bounced light held at {r.radiance_limit_indirect:g}")
    if r.radiance_limit_direct:
        said.append(f"light from lamps held at {r.radiance_limit_direct:g}")
    said = said or ["nothing is held back"]
    return ", ".join([*said, *([] if r.caustics else ["no caustics"])])


def _lights(r: Recipe, scene: Scene, final: Recipe) -> str:
    count = len(scene.lights)
    off = sum(1 for name in scene.lights if r.light_scales.get(name, 1.0) == 0)
    other = sum(1 for name in scene.lights if r.light_scales.get(name, 1.0) not in (0, 1))
    said = [f"{count} light{'' if count == 1 else 's'}"]
    said += [f"{off} off"] if off else []
    said += [f"{other} dimmed or raised"] if other else []
    return ", ".join(said)


def _sky(r: Recipe, scene: Scene, final: Recipe) -> str:
    if r.environment_picture:
        return f"sky picture {r.environment_picture.split('/')[2]}"
    if r.sun_elevation is not None:
        below = r.sun_elevation < 0
        return f"sun {abs(r.sun_elevation):g}° {'below the horizon' if below else 'up'}"
    return "sky as the scene has it" if scene.sky else "no sky in the scene"


def _camera(r: Recipe, scene: Scene, final: Recipe) -> str:
    sharp = "sharp everywhere"
    if r.f_stop:
        sharp = f"f/{r.f_stop:g}, sharp at {r.focus_distance:g} m"
    still = f", open for {percent(r.shutter)} of a frame" if r.shutter else ", nothing moves"
    return sharp + (still if scene.moves else "")


def _after(r: Recipe, scene: Scene, final: Recipe) -> str:
    how = {
        "no": "not denoised",
        "with": "denoised with each frame",
        "later": "denoised afterwards",
    }[r.denoise]
    return f"{how}, exposure {r.exposure:+g}" if r.exposure else how


def _splits(r: Recipe, scene: Scene, final: Recipe) -> str:
    return "more than one at the first hit" if r.splits else "one at the first hit"


def _layers(r: Recipe, scene: Scene, final: Recipe) -> str:
    n = len(r.kept_layers)
    return f"{n} layer{'' if n == 1 else 's'} beside the picture"


def _drawn(r: Recipe, scene: Scene, final: Recipe) -> str:
    how = "again and again" if r.order == "progressive" else f"in tiles of {r.tile_size}"
    return f"{how}, seed {r.seed}"


def _previews(r: Recipe, scene: Scene, final: Recipe) -> str:
    said = []
    if r.russian_roulette_threshold:
        said.append(f"dim paths end at {r.russian_roulette_threshold:g}")
    if r.pattern_block > 1:
        said.append(f"patterns shared by {r.pattern_block} × {r.pattern_block}")
    return ", ".join(said) or "none"


# --- small pictures ---
def _sun_drawing(r: Recipe) -> dict[str, Any]:
    if r.environment_picture or r.sun_elevation is None:
        return {}
    up, round_ = math.radians(r.sun_elevation), math.radians(r.sun_azimuth)
    return {
        "kind": "sun",
        "x": round(60 - 44 * math.cos(up), 1),
        "y": round(52 - 44 * math.sin(up), 1),
        "dx": round(160 + 20 * math.sin(round_), 1),
        "dy": round(32 - 20 * math.cos(round_), 1),
    }


def _camera_drawing(r: Recipe) -> dict[str, Any]:
    """What is sharp, over the distance: the blur of a lens goes with 1 / d (thin lens)."""
    if not r.f_stop and not r.shutter:
        return {}
    far = max(FAR, 2.5 * r.focus_distance)
    points = []
    for k in range(1, 41):
        d = far * k / 40
        blur = abs(1 / r.focus_distance - 1 / d) * SENSOR_HEIGHT * 1e3 / max(r.f_stop, 0.1)
        points.append((200 * k / 40, 50 - min(44.0, 22 * blur) if r.f_stop else 50.0))
    return {
        "kind": "camera",
        "curve": " ".join(f"{x:.1f},{y:.1f}" for x, y in points),
        "focus": round(200 * r.focus_distance / far, 1),
        "far": f"{far:g}",
        "lens": bool(r.f_stop),
        "open": round(200 * r.shutter, 1),
    }


KINDS = (
    _Kind("size", "Size", ("width", "height"), _size, words="resolution pixels aspect"),
    _Kind(
        "samples",
        "Samples",
        ("samples", "min_samples", "noise", "converged_fraction", "time_limit"),
        _samples,
        words="spp adaptive sampling threshold quality maximum minimum",
    ),
    _Kind(
        "bounces",
        "Bounces",
        (
            "bounces",
            "transparent_layers",
            "bounces_diffuse",
            "bounces_specular",
            "bounces_transmission",
            "bounces_volume",
        ),
        _bounces,
        words="depth paths indirect light global illumination ray transparency",
    ),
    _Kind(
        "clamps",
        "Bright dots",
        ("radiance_limit_indirect", "radiance_limit_direct", "caustics"),
        _clamps,
        words="clamp fireflies limit caustics",
    ),
    _Kind(
        "lights",
        "Lights",
        ("light_sampling", "light_threshold"),
        _lights,
        lambda scene: bool(scene.lights),
        words="lamps on off solo strength many",
    ),
    _Kind(
        "sky",
        "Sun and sky",
        (
            "sun_elevation",
            "sun_azimuth",
            "sky_strength",
            "environment_visible",
            "environment_picture",
            "environment_rotation",
            "environment_intensity",
        ),
        _sky,
        lambda scene: scene.sky,
        words="environment hdr dome world background",
        drawing=_sun_drawing,
    ),
    _Kind(
        "camera",
        "Camera",
        ("f_stop", "focus_distance", "shutter"),
        _camera,
        words="depth of field dof motion blur aperture lens bokeh",
        drawing=_camera_drawing,
    ),
    _Kind("after", "Afterwards", ("denoise", "exposure"), _after, words="denoise noise brightness"),
    _Kind(
        "splits",
        "Rays",
        ("split_diffuse", "split_specular", "split_transmission", "split_volume", "split_lights"),
        _splits,
        lambda scene: False,
        words="split branched subsamples multiply",
    ),
    _Kind("layers", "Layers", ("layers",), _layers, lambda scene: False, words="aov passes exr"),
    _Kind(
        "drawn",
        "Drawn",
        ("seed", "order", "tile_size"),
        _drawn,
        lambda scene: False,
        words="tiles progressive buckets seed random",
    ),
    _Kind(
        "previews",
        "Short cuts",
        ("russian_roulette_threshold", "pattern_block"),
        _previews,
        lambda scene: False,
        words="russian roulette preview blotches",
    ),
)
