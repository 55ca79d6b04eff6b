"""The layers of a film, one entry each: what is summed, what pictures it gives, how they are shown.

A layer is added by one more entry in `LAYERS`.  Sums that the kernels do not write yet also need a
slot in `slots.py` and a line in `tiles.py`; everything else follows from the entry: bytes in memory
and while writing, channels in EXR, the picture on the page, its title, the choices of a recipe.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.image.maps import Show
from mill_lane.core.registry import Registry
from mill_lane.core.render import slots as s
from mill_lane.core.render.noise_map import noise_map

F32 = NDArray[np.float32]
AXIS_DEPTH = "axis_depth"  # along the camera's axis, as EXR has it; ours are distances
FLOAT = 4  # bytes
ROWS = 64  # worked on at a time in double precision, so that a large film takes little more
PER_LIGHT = -1  # as the channels of a plane: three for each light of the scene

LIGHT = Show("light")
# Layers whose names say little to whoever has not written them.
LAYER_WORDS = {
    "half_buffers": "two pictures of half the samples",
    "variance": "how much samples vary",
    "work": "a map of cost",
    "object": "object numbers",
    "lights": "each light by itself",
    "components": "light by kind",
    "samples": "a map of samples",
    "noise": "a map of noise",
    "material": "roughness, metallic, opacity",
}


class Sums(Protocol):
    """What a layer is made from: the sums of a film of H x W pixels."""

    @property
    def light(self) -> F32:
        """Sums of the light, (H, W, 3)."""

    @property
    def luma(self) -> F32:
        """Sums of the luminance and of its square, (H, W, 2)."""

    @property
    def samples(self) -> NDArray[np.uint32]:
        """Samples of each pixel, (H, W)."""

    def __getitem__(self, plane: str) -> F32:
        """The sums of a plane that some layer asked for."""


@dataclass(frozen=True)
class Plane:
    """Sums that the kernels keep, float32: the slot of the film table, and channels a pixel."""

    name: str
    slot: int
    channels: int

    def depth(self, light_count: int) -> int:
        """Numbers a pixel in a scene of so many lights."""
        return 3 * light_count if self.channels == PER_LIGHT else self.channels


@dataclass(frozen=True)
class Picture:
    """A picture that a layer gives.

    Attributes
    ----------
    name : str
        By which it is found in files and addresses.
    title : str
        What it is called on a page.
    channels : tuple of str
        Its channels in EXR.
    show : Show or None
        How it is drawn; None where there is nothing to look at.
    """

    name: str
    title: str
    channels: tuple[str, ...]
    show: Show | None = None


Resolve = Callable[[Sums, Sequence[str]], Iterator[tuple[str, F32]]]


@dataclass(frozen=True)
class Layer:
    """A layer of the film.

    Attributes
    ----------
    name : str
        By which recipes ask for it.
    pictures : tuple of Picture
        What it gives; a layer for each light gives more, called "light NAME".
    resolve : callable
        From the sums and the names of the lights to (name, picture) pairs, float32.
    planes : tuple of Plane
        The sums that it needs.
    writing_bytes : int or None
        A pixel, while it is written; None where that is what its pictures hold.
    """

    name: str
    pictures: tuple[Picture, ...]
    resolve: Resolve
    planes: tuple[Plane, ...] = ()
    writing_bytes: int | None = None

    def kept_bytes(self, light_count: int = 0) -> int:
        """Bytes a pixel that its sums take."""
        return FLOAT * sum(p.depth(light_count) for p in self.planes)

    def written_bytes(self, light_count: int = 0) -> int:
        """Bytes a pixel that its pictures take while they are written."""
        if self.writing_bytes is not None:
            return self.writing_bytes
        if any(p.channels == PER_LIGHT for p in self.planes):
            return 3 * FLOAT * light_count
        return FLOAT * sum(len(p.channels) for p in self.pictures)


def colour(name: str, suffixes: str = "RGB") -> tuple[str, ...]:
    """Name the channels of a colour or a vector."""
    return tuple(f"{name}.{c}" for c in suffixes)


def count_of(film: Sums) -> F32:
    """Samples of each pixel as divisor, (H, W, 1): at least 1, so that empty pixels stay black."""
    n: F32 = np.maximum(film.samples, 1).astype(np.float32)[..., None]
    return n


def mean_of(plane: Plane) -> Resolve:
    """Make the `resolve` of a layer that is the mean of one plane."""

    def resolve(film: Sums, _: Sequence[str]) -> Iterator[tuple[str, F32]]:
        n = count_of(film)
        sums = film[plane.name]
        mean: F32 = sums / (n if sums.ndim == 3 else n[..., 0])
        yield plane.name, mean

    return resolve


def mean_layer(
    name: str, slot: int, channels: tuple[str, ...], title: str = "", show: Show | None = None
) -> Layer:
    """Describe a layer that is the mean of one plane of the same name."""
    plane = Plane(name, slot, len(channels))
    picture = Picture(name, title or name, channels, show)
    return Layer(name, (picture,), mean_of(plane), (plane,))


def _beauty(film: Sums, _: Sequence[str]) -> Iterator[tuple[str, F32]]:
    yield "beauty", film.light / count_of(film)


def _samples(film: Sums, _: Sequence[str]) -> Iterator[tuple[str, F32]]:
    yield "samples", film.samples.astype(np.float32)


def _noise(film: Sums, _: Sequence[str]) -> Iterator[tuple[str, F32]]:
    yield "noise", noise_map(film.luma, film.samples)


def _object(film: Sums, _: Sequence[str]) -> Iterator[tuple[str, F32]]:
    yield "object", film["object"].copy()  # numbers do not average: the first sample's stands


def _half_buffers(film: Sums, _: Sequence[str]) -> Iterator[tuple[str, F32]]:
    first = (film.samples + 1) // 2
    rest = np.maximum(film.samples - first, 1)[..., None].astype(np.float32)
    half = film["half_buffers"]
    yield "half_a", np.divide(half, np.maximum(first, 1)[..., None], dtype=np.float32)
    other: F32 = (film.light - half) / rest
    yield "half_b", other


def _components(film: Sums, _: Sequence[str]) -> Iterator[tuple[str, F32]]:
    n = count_of(film)
    for i, name in enumerate(s.COMPONENTS):
        yield name, film["components"][:, :, 3 * i : 3 * i + 3] / n


def _lights(film: Sums, names: Sequence[str]) -> Iterator[tuple[str, F32]]:
    n = count_of(film)
    sums = film["lights"]
    for i in range(sums.shape[2] // 3):
        label = names[i] if i < len(names) else str(i)
        yield f"light {label}", sums[:, :, 3 * i : 3 * i + 3] / n


def variance_of_mean(sums: F32, squares: F32, samples: NDArray[np.uint32]) -> F32:
    """Estimate the variance of a mean from sums of values and of their squares.

    Parameters
    ----------
    sums, squares : array of float32, (H, W) or (H, W, C)
        Over the samples of each pixel.
    samples : array of uint32, (H, W)
        How many there were.

    Returns
    -------
    array of float32, the shape of `sums`
        (E[x^2] - E[x]^2) / (n - 1), which is without bias for independent samples; 0 where there is
        but one sample.
    """
    out = np.empty(sums.shape, np.float32)
    for top in range(0, len(sums), ROWS):
        rows = slice(top, top + ROWS)
        n = np.maximum(samples[rows], 1).astype(np.float64)
        n = n[..., None] if sums.ndim == 3 else n
        mean = sums[rows] / n
        spread = np.maximum(squares[rows] / n - mean * mean, 0)
        out[rows] = spread / np.maximum(n - 1, 1) * (n > 1)
    return out


def _material(film: Sums, _: Sequence[str]) -> Iterator[tuple[str, F32]]:
    n = count_of(film)[..., 0]
    for i, picture in enumerate(MATERIAL_INPUTS):
        yield picture.name, film["material"][:, :, i] / n


def _variance(film: Sums, _: Sequence[str]) -> Iterator[tuple[str, F32]]:
    yield "variance", variance_of_mean(film.light, film["light_squares"], film.samples)
    for guide in ("albedo", "normal", "depth"):
        squares = film[f"{guide}_squares"]
        yield f"{guide}_variance", variance_of_mean(film[guide], squares, film.samples)


ALBEDO = mean_layer("albedo", s.F_ALBEDO, colour("albedo"), show=Show("colour"))
NORMAL = mean_layer("normal", s.F_NORMAL, colour("normal", "XYZ"), show=Show("direction"))
DEPTH = replace(
    mean_layer("depth", s.F_DEPTH, ("distance",), show=Show("map", "m")),
    writing_bytes=2 * FLOAT,  # along the axis as well
)
# Of the first surface that scatters, but opacity: that is of the first of all.
MATERIAL_INPUTS = tuple(
    Picture(name, name, (name,), Show("map", most=1.0))
    for name in ("roughness", "metallic", "opacity")
)
SQUARES = (
    Plane("light_squares", s.F_LIGHT_SQUARES, 3),
    Plane("albedo_squares", s.F_ALBEDO_SQUARES, 3),
    Plane("normal_squares", s.F_NORMAL_SQUARES, 3),
    Plane("depth_squares", s.F_DEPTH_SQUARES, 1),
)

# The picture itself is always kept: it is no choice of a recipe.
BEAUTY = Layer("beauty", (Picture("beauty", "the picture", ("R", "G", "B"), LIGHT),), _beauty)
LAYERS = Registry(
    "layer",
    ALBEDO,
    NORMAL,
    DEPTH,
    Layer("material", MATERIAL_INPUTS, _material, (Plane("material", s.F_MATERIAL, 3),)),
    mean_layer("position", s.F_POSITION, colour("position", "XYZ")),
    mean_layer("motion", s.F_MOTION, colour("motion", "XY")),
    Layer(
        "object",
        (Picture("object", "objects", ("id",), Show("numbers")),),
        _object,
        (Plane("object", s.F_OBJECT, 1),),
    ),
    Layer(
        "samples",
        (Picture("samples", "map: samples", ("samples",), Show("map", "samples")),),
        _samples,
    ),
    Layer("noise", (Picture("noise", "map: noise", ("noise",), Show("map", "%", 100.0)),), _noise),
    mean_layer("work", s.F_WORK, ("work",), "map: cost", Show("map", "ms a pixel", 1e3, cost=True)),
    Layer(
        "half_buffers",
        (
            Picture("half_a", "half of the samples", colour("half_a"), LIGHT),
            Picture("half_b", "the other half", colour("half_b"), LIGHT),
        ),
        _half_buffers,
        (Plane("half_buffers", s.F_HALF, 3),),
        writing_bytes=32,
    ),
    Layer(
        "components",
        tuple(Picture(name, name.replace("_", ", "), colour(name), LIGHT) for name in s.COMPONENTS),
        _components,
        (Plane("components", s.F_COMPONENTS, 3 * len(s.COMPONENTS)),),
    ),
    Layer("lights", (), _lights, (Plane("lights", s.F_LIGHTS, PER_LIGHT),)),
    Layer(
        "variance",
        (
            Picture("variance", "variance", colour("variance")),
            Picture("albedo_variance", "variance of the albedo", colour("albedo_variance")),
            Picture("normal_variance", "variance of the normal", colour("normal_variance", "XYZ")),
            Picture("depth_variance", "variance of the depth", ("depth_variance",)),
        ),
        _variance,
        (*SQUARES, *ALBEDO.planes, *NORMAL.planes, *DEPTH.planes),
    ),
)


def check_layers(names: Iterable[str]) -> None:
    """Refuse a recipe that asks for layers that there are none of.

    Raises
    ------
    MillError
        Naming the first of them, and the ones that there are.
    """
    for name in names:
        if name not in LAYERS:
            raise MillError(
                f"There is no layer “{name}”.", f"Choose from {', '.join(LAYERS.names)}."
            )


def planes_of(names: Iterable[str]) -> dict[str, Plane]:
    """The sums that layers need, each once, by name."""
    return {p.name: p for name in names for p in LAYERS[name].planes}


def pictures() -> dict[str, Picture]:
    """All pictures that are known by name, the beauty first, in the order of the registry."""
    return {p.name: p for layer in (BEAUTY, *LAYERS) for p in layer.pictures}


def show_of(name: str) -> Show | None:
    """How a picture is drawn; None where there is nothing to look at.

    What no layer lists is the light of one light ("light NAME").
    """
    known = pictures()
    if name in known:
        return known[name].show
    return LIGHT if name.startswith("light ") else None


def exr_names() -> dict[str, tuple[str, ...]]:
    """The channels in EXR of every picture that is known by name."""
    return {name: picture.channels for name, picture in pictures().items()} | {AXIS_DEPTH: ("Z",)}


def resolved(
    film: Sums, names: Sequence[str] = (), light_names: Sequence[str] = ()
) -> Iterator[tuple[str, F32]]:
    """Make mean pictures one after another, the beauty first.

    Parameters
    ----------
    film : Sums
        What was summed.
    names : sequence of str
        Layers.
    light_names : sequence of str
        The scene's lights, for the layer "lights".

    Yields
    ------
    name : str
    picture : array of float32, (H, W) or (H, W, C)
        Pixels without a sample are black.
    """
    for layer in (BEAUTY, *(LAYERS[name] for name in names)):
        yield from layer.resolve(film, light_names)
