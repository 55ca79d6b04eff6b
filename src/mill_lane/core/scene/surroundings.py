"""What is round the things of a scene: fog, and light that comes from outside."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Vec3 = tuple[float, float, float]


@dataclass(frozen=True)
class Medium:
    """Homogeneous fog in a box.

    `scatter` and `absorb` are per metre; `g` is the Henyey-Greenstein mean cosine.
    """

    name: str
    box_min: Vec3
    box_max: Vec3
    scatter: float
    absorb: float = 0.0
    g: float = 0.0


@dataclass(frozen=True, eq=False)
class SkyPicture:
    """A picture of the whole sphere that a file brings, longitude over latitude.

    width, height : pixels as it is drawn, which may be fewer than the file has.  axes : rows of the
    3 x 3 matrix that brings a direction of the world into the picture's own axes, in which its
    middle looks along +Z, a quarter to the left of it along +X, and its top row along +Y (as
    OpenEXR has it).  tint : what its light is multiplied by.
    """

    name: str
    width: int
    height: int
    file_bytes: int
    read: Callable[[], bytes] = field(repr=False)
    axes: tuple[float, ...] = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)
    tint: Vec3 = (1.0, 1.0, 1.0)
    file: str = ""  # its path beside the USD stage it came with


@dataclass(frozen=True)
class Environment:
    """Light from all round:

    a gradient from the ground over the horizon to the zenith, radiance in each.

    With `sun_elevation` (degrees) it is a clear sky with a sun instead, which gives level ground
    `strength` in all; the azimuth counts from -Z over +X.  With `pixels`, float32 (H, W, 3) in
    longitude over latitude, it is that picture.  `key`, a unit vector, adds a soft light there.
    """

    zenith: Vec3 = (0.0, 0.0, 0.0)
    horizon: Vec3 = (0.0, 0.0, 0.0)
    ground: Vec3 = (0.0, 0.0, 0.0)
    added: bool = False  # the file had no light at all; this one keeps the picture from being black
    key: Vec3 | None = None
    sun_elevation: float | None = None
    sun_azimuth: float = 0.0
    strength: float = 3.0
    pixels: NDArray[np.float32] | None = field(default=None, repr=False, compare=False)
    picture: SkyPicture | None = None  # goes before all others
