"""From a recipe and a preview to the numbers that the kernels read."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.recipe import Recipe, Region
from mill_lane.core.render import slots as s
from mill_lane.core.render.pose import ScenePart, Shot, camera_track
from mill_lane.core.scene.model import Scene
from mill_lane.core.scene.surroundings import Environment

SENSOR_HEIGHT = (
    0.024  # metres: the lens of an f-stop is that of a camera with a sensor of 36 x 24 mm
)
CHOICES = {"power": s.ONE_BY_POWER, "all": s.ALL_LIGHTS, "estimate": s.ONE_BY_ESTIMATE}
VIEWS = {"light": s.VIEW_LIGHT, "occlusion": s.VIEW_OCCLUSION, "wires": s.VIEW_WIRES}


@dataclass(frozen=True)
class Preview:
    """What is left out while looking, the recipe untouched: the final render knows nothing of it.

    `only_object` shows the placed objects of one name; `only_component` is the component that is
    shown alone.
    """

    indirect: bool = True
    shadows: bool = True
    refraction: bool = True
    fog: bool = True
    motion: bool = True
    depth_of_field: bool = True
    only_object: str | None = None
    only_component: str | None = None
    view: Literal["light", "occlusion", "wires"] = "light"
    occlusion_reach: float = 1.0  # metres

    @property
    def plain(self) -> bool:
        """Whether nothing is left out."""
        return self == Preview()


def shot_of(
    recipe: Recipe,
    preview: Preview,
    scene: Scene,
    sky: NDArray[np.float32] | None = None,
    part: ScenePart | None = None,
) -> Shot:
    """What of recipe and preview changes the world itself.

    `sky` is the recipe's sky picture, (H, W, 3), longitude over latitude; it goes before the
    recipe's sun.
    """
    environment = None
    if sky is not None:
        steps = round(recipe.environment_rotation / 360 * sky.shape[1]) % sky.shape[1]
        if steps or recipe.environment_intensity != 1.0:
            sky = np.roll(sky, steps, axis=1)
            sky *= np.float32(recipe.environment_intensity)
        environment = Environment(pixels=sky)
    elif recipe.sun_elevation is not None:
        environment = Environment(
            sun_elevation=recipe.sun_elevation,
            sun_azimuth=recipe.sun_azimuth,
            strength=recipe.sky_strength,
        )
    return Shot(
        shutter=recipe.shutter / scene.frame_rate if preview.motion else 0.0,
        scales=recipe.light_scales,
        only=preview.only_object,
        environment=environment,
        part=part,
    )


def lens_radius(yfov: float, f_stop: float) -> float:
    """Half the aperture in metres:

    focal length / (2 N), the focal length that of the sensor and the angle of view.
    """
    return SENSOR_HEIGHT / 2 / math.tan(yfov / 2) / (2 * f_stop) if f_stop > 0 else 0.0


def settings_of(
    recipe: Recipe,
    region: Region,
    scene: Scene,
    time: float,
    camera: str | None = None,
    preview: Preview | None = None,
    profile: bool = False,
    part: ScenePart | None = None,
) -> NDArray[np.float64]:
    """Turn a recipe into the settings that kernels read (`slots.S_`).

    Parameters
    ----------
    recipe : Recipe
    region : tuple of int
        x0, y0, x1, y1 in pixels of the recipe's picture, x1 and y1 exclusive.
    scene : Scene
    time : float
        Seconds.
    camera : str or None
    preview : Preview, optional
        What is left out while looking.
    profile : bool
        Whether work is counted.
    part : ScenePart, optional
        What the camera sees; all of the scene where it is not given.

    Returns
    -------
    array of float64, (S_SIZE,)

    Raises
    ------
    MillError
        When there is no such camera.
    """
    p = preview or Preview()
    out = np.zeros(s.SETTINGS)
    shutter = recipe.shutter / scene.frame_rate if p.motion else 0.0
    track, spread, flat = camera_track(scene, time, shutter, recipe.width, recipe.height, camera)
    out[s.S_CAMERA_TRACK :] = track
    node = scene.nodes[scene.camera_node(camera)]
    x0, y0, x1, y1 = region
    values = {
        s.S_WIDTH: recipe.width,
        s.S_HEIGHT: recipe.height,
        s.S_X0: x0,
        s.S_Y0: y0,
        s.S_REGION_W: x1 - x0,
        s.S_REGION_H: y1 - y0,
        s.S_SEED: recipe.seed,
        s.S_BLOCK: recipe.pattern_block,
        s.S_BOUNCES: recipe.bounces if p.indirect else 0,
        s.S_DIFFUSE: recipe.bounces_diffuse,
        s.S_SPECULAR: recipe.bounces_specular,
        s.S_TRANSMISSION: recipe.bounces_transmission,
        s.S_VOLUME: recipe.bounces_volume,
        s.S_LAYERS: recipe.transparent_layers,
        s.S_DIRECT_CLAMP: recipe.radiance_limit_direct,
        s.S_CLAMP_BOUNCED: recipe.radiance_limit_indirect,
        s.S_CAUSTICS: recipe.caustics,
        s.S_EARLY_END: recipe.russian_roulette_threshold,
        s.S_SPLIT: recipe.splits,
        s.S_SPLIT_DIFFUSE: recipe.split_diffuse,
        s.S_SPLIT_SPECULAR: recipe.split_specular,
        s.S_SPLIT_TRANSMISSION: recipe.split_transmission,
        s.S_SPLIT_VOLUME: recipe.split_volume,
        s.S_SPLIT_LIGHTS: recipe.split_lights,
        s.S_CHOICE: CHOICES[recipe.light_sampling],
        s.S_LIGHT_THRESHOLD: recipe.light_threshold,
        s.S_SKY_VISIBLE: recipe.environment_visible,
        s.S_PROFILE: profile,
        s.S_VIEW: VIEWS[p.view],
        s.S_INDIRECT: p.indirect,
        s.S_SHADOWS: p.shadows,
        s.S_REFRACTION: p.refraction,
        s.S_FOG: p.fog,
        s.S_OCCLUSION_REACH: p.occlusion_reach,
        s.S_SPREAD: spread,
        s.S_FLAT: flat,
        s.S_SHUTTER: shutter,
        s.S_AIM: 1.0,
        s.S_PART: s.WHOLE if part is None else (s.PART_WITH_REST if part.rest else s.PART_ALONE),
        s.S_LIGHT_COUNT: "lights" in recipe.layers,
        s.S_LENS: lens_radius(scene.cameras[node.camera].yfov, recipe.f_stop)
        if p.depth_of_field and not flat
        else 0.0,
        s.S_FOCUS: recipe.focus_distance,
        s.S_ONLY: 1.0 + s.COMPONENTS.index(p.only_component)
        if p.only_component in s.COMPONENTS
        else 0.0,
    }
    for slot, value in values.items():
        out[slot] = float(value)
    return out
