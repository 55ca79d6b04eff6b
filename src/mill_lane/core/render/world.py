"""What the kernels see of a scene: flat arrays, and nothing else."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render.texture import Textures
from mill_lane.core.render.traverse import Accel

# Slots of `Surfaces.slots` and `Surfaces.transforms`.
BASE, ROUGH, NORMAL, EMISSION, TRANSMISSION = range(5)

# Columns of `Surfaces.factors`.
(
    M_RED, M_GREEN, M_BLUE, M_ALPHA, M_METALLIC, M_ROUGH, M_EMIT_R, M_EMIT_G, M_EMIT_B, M_IOR, M_TRANSMIT, M_THICK,
    M_ABSORB_R, M_ABSORB_G, M_ABSORB_B, M_MODE, M_CUTOFF, M_TWO_SIDED, M_UNLIT, M_NORMAL_SCALE,
) = range(20)  # fmt: skip

OPAQUE, MASK, BLEND = 0, 1, 2

# Kinds of rows in `Lights.rows`, and their columns: 0 kind; 1 position or first corner; 4 direction or first edge;
# 7 second edge; 10 colour, or for a triangle the sign of its front and whether both sides glow; 13 range or area;
# 14 cosine of the inner cone, or the instance; 15 cosine of the outer cone, or the triangle.
POINT, SPOT, SUN, TRIANGLE, SKY = range(5)


class Surfaces(NamedTuple):
    """V vertices, U of them with UVs, P parts, I instances, M materials."""

    normals: NDArray[np.float32]  # (V, 3)
    uvs: NDArray[np.float32]  # (U, 2)
    parts: NDArray[np.int64]  # (P, 3): first vertex, first UV or -1, first triangle
    instances: NDArray[np.int64]  # (I, 3): part, material, first light or -1
    to_world: NDArray[np.float64]  # (I, 12) rows of object-to-world
    factors: NDArray[np.float64]  # (M, 20)
    slots: NDArray[np.int64]  # (M, 5) texture or -1
    transforms: NDArray[np.float64]  # (M, 5, 6) rows of the UV transform


class Lights(NamedTuple):
    """L lights to aim at; the sky is one of them when it shines."""

    rows: NDArray[np.float64]  # (L, 16)
    chance: NDArray[np.float64]  # (L,) probability of being picked
    running: NDArray[np.float64]  # (L,) running sum of `chance`
    sky: NDArray[np.float64]  # (9,) zenith, horizon, ground
    sky_row: int  # row of the sky, or -1
    sky_rows: NDArray[np.float64]  # (H + 1,) running sum over rows of the sky's table
    sky_columns: NDArray[np.float64]  # (H, W + 1) running sum within a row


class World(NamedTuple):
    accel: Accel
    surfaces: Surfaces
    textures: Textures
    lights: Lights
    media: NDArray[np.float64]  # (N, 9): box minimum, box maximum, scatter, extinction, g


class View(NamedTuple):
    """A camera at a moment: position, and the directions of the picture's middle, right edge and top edge."""

    position: NDArray[np.float64]
    forward: NDArray[np.float64]
    right: NDArray[np.float64]
    up: NDArray[np.float64]
    spread: float  # angle of a pixel in radians
