"""Render settings: one frozen model, the single truth for the command line, the web and files."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

# The name of a layer of the film; which there are is told by `core.render.layers`.
Layer = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")]
# Whether noise is taken out once a picture is done, with its scene still in memory or without it.
Denoised = Literal["no", "with", "later"]
Region = tuple[int, int, int, int]
# As many as can be counted: the render goes on until something else stops it.
MOST_SAMPLES = 2**24
LAYERS: tuple[Layer, ...] = ("albedo", "normal", "depth", "samples", "work")
SCHEMA: Literal[2] = 2  # of stored recipes; see `core.recipe_versions`
# A sky picture is named by its content, its size and the name that people know:
# "hash/2048x1024/morning.hdr".
ENVIRONMENT_PICTURE = r"^$|^[^/]*/[1-9]\d{0,4}x[1-9]\d{0,4}/[^/]+$"
# What a picture keeps for the noise to be taken out of it.
DENOISE_LAYERS: tuple[Layer, ...] = ("albedo", "normal", "depth", "half_buffers", "variance")
# What a trial keeps, so that its picture can be taken apart; a light a layer only on demand.
TRIAL_LAYERS: tuple[Layer, ...] = (
    "albedo",
    "normal",
    "depth",
    "material",
    "motion",
    "object",
    "samples",
    "noise",
    "work",
    "components",
    "half_buffers",
    "variance",
)


LARGEST = 16384  # pixels, of a side of a picture


class Recipe(BaseModel):
    """How a picture is to be rendered.

    Lengths are pixels.  `noise` is the relative standard error of a pixel's luminance at which it
    is left alone once it has its least samples (0: never); with `converged_fraction` below 1 the
    render ends when that share of the pixels is. `time_limit` is seconds (0 for none), `exposure`
    is in stops and only affects what is shown, never the EXR. `bounces` counts reflections and fog
    together; passing through glass counts by itself, straight through panes and holes as
    transparent layers. The splits are rays at the first thing that is met, each multiplying one
    component. `russian_roulette_threshold` and `pattern_block` are preview means: they save time
    and leave blotches.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    schema_version: Literal[2] = SCHEMA
    width: Annotated[
        int, Field(ge=1, le=LARGEST, title="Width", json_schema_extra={"unit": "px"})
    ] = 1920
    height: Annotated[
        int, Field(ge=1, le=LARGEST, title="Height", json_schema_extra={"unit": "px"})
    ] = 1080
    samples: Annotated[int, Field(ge=1, le=MOST_SAMPLES, title="Samples, at most")] = 64
    min_samples: Annotated[int, Field(ge=1, le=65536, title="Samples, at least")] = 16
    noise: Annotated[float, Field(ge=0, le=1, title="Noise threshold")] = 0.0
    converged_fraction: Annotated[float, Field(ge=0.01, le=1, title="Share of pixels clean")] = 1.0
    bounces: Annotated[int, Field(ge=0, le=64, title="Bounces")] = 4
    bounces_diffuse: Annotated[int, Field(ge=0, le=64, title="Bounces, diffuse")] = 64
    bounces_specular: Annotated[int, Field(ge=0, le=64, title="Bounces, specular")] = 64
    bounces_transmission: Annotated[int, Field(ge=0, le=256, title="Bounces, transmission")] = 24
    bounces_volume: Annotated[int, Field(ge=0, le=64, title="Bounces, volume")] = 64
    transparent_layers: Annotated[int, Field(ge=0, le=256, title="Transparent layers")] = 16
    radiance_limit_direct: Annotated[
        float, Field(ge=0, le=1e6, title="Clamp, light from lamps")
    ] = 0.0
    radiance_limit_indirect: Annotated[float, Field(ge=0, le=1e6, title="Clamp, bounced light")] = (
        0.0
    )
    caustics: Annotated[bool, Field(title="Caustics")] = True
    russian_roulette_threshold: Annotated[float, Field(ge=0, le=1, title="End dim paths early")] = (
        0.0
    )
    pattern_block: Annotated[
        int, Field(ge=1, le=16, title="Share random patterns", json_schema_extra={"unit": "px"})
    ] = 1
    split_diffuse: Annotated[int, Field(ge=1, le=64, title="Rays, diffuse")] = 1
    split_specular: Annotated[int, Field(ge=1, le=64, title="Rays, specular")] = 1
    split_transmission: Annotated[int, Field(ge=1, le=64, title="Rays, transmission")] = 1
    split_volume: Annotated[int, Field(ge=1, le=64, title="Rays, volume")] = 1
    split_lights: Annotated[int, Field(ge=1, le=64, title="Rays, lights")] = 1
    light_sampling: Annotated[
        Literal["estimate", "power", "all"], Field(title="Lights aimed at")
    ] = "estimate"
    light_threshold: Annotated[float, Field(ge=0, le=1e6, title="Skip lights below")] = 0.0
    light_scales: Annotated[
        dict[str, Annotated[float, Field(ge=0, le=1e6)]], Field(title="Lights")
    ] = {}
    environment_visible: Annotated[bool, Field(title="Sky in the picture")] = True
    sun_elevation: Annotated[
        float | None, Field(ge=-20, le=90, title="Sun, height", json_schema_extra={"unit": "°"})
    ] = None
    sun_azimuth: Annotated[
        float, Field(ge=-360, le=360, title="Sun, direction", json_schema_extra={"unit": "°"})
    ] = 0.0
    sky_strength: Annotated[float, Field(ge=0, le=1e6, title="Sun and sky, strength")] = 3.0
    environment_picture: Annotated[
        str, Field(max_length=400, pattern=ENVIRONMENT_PICTURE, title="Sky picture")
    ] = ""
    environment_rotation: Annotated[
        float, Field(ge=-360, le=360, title="Sky picture, turned", json_schema_extra={"unit": "°"})
    ] = 0.0
    environment_intensity: Annotated[float, Field(ge=0, le=1e6, title="Sky picture, strength")] = (
        1.0
    )
    camera: Annotated[str, Field(max_length=200, title="Camera")] = ""
    f_stop: Annotated[float, Field(ge=0, le=128, title="F-stop")] = 0.0
    focus_distance: Annotated[
        float, Field(gt=0, le=1e6, title="Focus distance", json_schema_extra={"unit": "m"})
    ] = 5.0
    shutter: Annotated[
        float, Field(ge=0, le=1, title="Shutter", json_schema_extra={"unit": "frames"})
    ] = 0.0
    order: Annotated[Literal["progressive", "tiles"], Field(title="Drawn")] = "progressive"
    tile_size: Annotated[
        int, Field(ge=8, le=1024, title="Tile size", json_schema_extra={"unit": "px"})
    ] = 16
    time_limit: Annotated[
        float, Field(ge=0, le=864000, title="Time limit", json_schema_extra={"unit": "s"})
    ] = 0.0
    seed: Annotated[int, Field(ge=0, le=2**31 - 1, title="Seed")] = 1
    exposure: Annotated[
        float, Field(ge=-20, le=20, title="Exposure", json_schema_extra={"unit": "stops"})
    ] = 0.0
    layers: Annotated[tuple[Layer, ...], Field(max_length=100, title="Layers")] = LAYERS
    denoise: Annotated[Denoised, Field(title="Denoise")] = "no"

    @model_validator(mode="after")
    def _minimum_is_not_above_maximum(self) -> Recipe:
        if self.min_samples > self.samples:
            raise ValueError(
                f"Samples, at least ({self.min_samples}) is above samples, at most "
                f"({self.samples}): "
                "lower the first or raise the second"
            )
        return self

    @property
    def kept_layers(self) -> tuple[Layer, ...]:
        """The layers that are kept: those that were chosen, and what denoising needs."""
        more = DENOISE_LAYERS if self.denoise != "no" else ()
        return tuple(dict.fromkeys((*self.layers, *more)))

    @property
    def endless(self) -> bool:
        """Whether no number of samples ends the render."""
        return self.samples >= MOST_SAMPLES

    @property
    def environment_size(self) -> tuple[int, int]:
        """Width and height of the sky picture; (0, 0) where there is none."""
        if not self.environment_picture:
            return (0, 0)
        width, height = self.environment_picture.split("/")[1].split("x")
        return int(width), int(height)

    @property
    def environment_changed(self) -> bool:
        """Whether the sky picture is turned or made brighter, so that there are two of it."""
        return self.environment_rotation % 360 != 0 or self.environment_intensity != 1.0

    @property
    def splits(self) -> bool:
        """Whether any component gets more than its share of rays at the first event."""
        rays = (
            self.split_diffuse,
            self.split_specular,
            self.split_transmission,
            self.split_volume,
            self.split_lights,
        )
        return max(rays) > 1

    def changed_from(self, other: Recipe) -> dict[str, tuple[Any, Any]]:
        """Field by field what differs, as {field: (other's value, this one's)}."""
        mine, theirs = self.model_dump(), other.model_dump()
        return {name: (theirs[name], mine[name]) for name in mine if mine[name] != theirs[name]}


# Typical pair (common practice): 540 px with shallow bounces against 1080 px with deeper ones.
DRAFT = Recipe(
    width=960,
    height=540,
    samples=16,
    min_samples=4,
    bounces=2,
    transparent_layers=12,
    layers=TRIAL_LAYERS,
)
FINAL = Recipe(
    width=1920, height=1080, samples=64, min_samples=16, bounces=4, transparent_layers=16
)


def framed(recipe: Recipe, shape: float) -> Recipe:
    """The recipe with a picture as upright, or as wide, as a camera's frame.

    Parameters
    ----------
    recipe : Recipe
    shape : float
        Width over height of the camera's frame; 0 where it says none, which changes nothing.

    Returns
    -------
    Recipe
        The longer side stays as long as it was; a frame that stands, or lies, as the picture does
        already changes nothing.
    """
    if shape <= 0 or (shape < 1) == (recipe.width < recipe.height):
        return recipe
    long = max(recipe.width, recipe.height)
    short = max(2, round(long * min(shape, 1 / shape) / 2) * 2)
    width, height = (short, long) if shape < 1 else (long, short)
    return recipe.model_copy(update={"width": width, "height": height})


def clip_region(region: Region | None, width: int, height: int) -> Region:
    """Cut a region to a picture.

    Parameters
    ----------
    region : tuple of int or None
        x0, y0, x1, y1 in pixels, x1 and y1 exclusive; None means the whole picture.
    width, height : int
        Of the picture, pixels.

    Returns
    -------
    tuple of int

    Raises
    ------
    ValueError
        When nothing is left.
    """
    if region is None:
        return (0, 0, width, height)
    x0, y0, x1, y1 = region
    x0, x1 = max(0, min(x0, x1)), min(width, max(x0, x1))
    y0, y1 = max(0, min(y0, y1)), min(height, max(y0, y1))
    if x1 - x0 < 1 or y1 - y0 < 1:
        raise ValueError(
            f"the region {region} does not touch the picture of {width} x {height} pixels"
        )
    return (x0, y0, x1, y1)
