"""What an EXR says of itself: how it was made, and depths as other programs read them.

Attributes are those of the OpenEXR standard ("Standard attributes"), where it has one; the others
stand under `millLane:`.  Its `Z` is the depth along the camera's axis; ours is the distance from
the camera, and goes under its own name.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane import __version__
from mill_lane.core.recipe import Recipe, Region
from mill_lane.core.render.layers import AXIS_DEPTH
from mill_lane.core.scene.model import Scene
from mill_lane.core.scene.pose import world_matrices

# Rec. 709 primaries and D65 (ITU-R BT.709-6): red, green, blue, white.
CHROMATICITIES = (0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290)
ROWS = 64  # whose cosines are held at once
Layers = Iterable[tuple[str, NDArray[Any]]]


def picture_header(
    scene: Scene, recipe: Recipe, frame: int, samples: float, scene_hash: str
) -> dict[str, Any]:
    """The attributes of a picture.

    Parameters
    ----------
    scene : Scene
    recipe : Recipe
    frame : int
    samples : float
        That pixels have got in the mean.
    scene_hash : str
        SHA-256 of the scene's file.
    """
    node = scene.camera_node(recipe.camera or None)
    camera = scene.cameras[scene.nodes[node].camera]
    matrix = world_matrices(scene, scene.seconds(frame))[node]
    size = np.linalg.norm(matrix[:3, :3], axis=0)
    rigid = matrix.copy()
    rigid[:3, :3] /= np.where(size > 0, size, 1.0)
    out: dict[str, Any] = {
        "software": f"Mill Lane {__version__}",
        "chromaticities": CHROMATICITIES,
        # For rows, as the standard's matrices are.
        "worldToCamera": np.ascontiguousarray(np.linalg.inv(rigid).T, np.float32),
        "cameraLabel": scene.nodes[node].name or camera.name,
        "imageCounter": int(frame),
        "millLane:frame": int(frame),
        "millLane:framesPerSecond": float(scene.frame_rate),
        "millLane:samples": float(samples),
        "millLane:samplesAtMost": int(recipe.samples),
        "millLane:seed": int(recipe.seed),
        "millLane:sceneHash": scene_hash,
    }
    if recipe.f_stop > 0:
        out |= {"aperture": float(recipe.f_stop), "focus": float(recipe.focus_distance)}
    if camera.half_height is None:
        out["millLane:verticalAngle"] = float(math.degrees(camera.yfov))
    return out


@dataclass(frozen=True)
class AxisCosines:
    """The cosine between each pixel's ray and the camera's axis, made where it is needed.

    across, down : float64 (W,), (H,), places of the pixels on a plane 1 m in front of the camera.
    """

    across: NDArray[np.float64]
    down: NDArray[np.float64]

    @property
    def shape(self) -> tuple[int, int]:
        """Height and width, pixels."""
        return len(self.down), len(self.across)

    def rows(self, first: int, last: int) -> NDArray[np.float32]:
        """Those of some rows, float32 (last - first, W)."""
        squares = self.across[None] ** 2 + self.down[first:last, None] ** 2
        return (1.0 / np.sqrt(1.0 + squares)).astype(np.float32)


def axis_cosines(scene: Scene, recipe: Recipe, region: Region) -> AxisCosines:
    """The cosines of a picture's pixels.

    Parameters
    ----------
    scene : Scene
    recipe : Recipe
    region : tuple of int
        x0, y0, x1, y1 in pixels of the recipe's picture.
    """
    node = scene.nodes[scene.camera_node(recipe.camera or None)]
    camera = scene.cameras[node.camera]
    x0, y0, x1, y1 = region
    half = 0.0 if camera.half_height is not None else math.tan(camera.yfov / 2)
    x = ((np.arange(x0, x1) + 0.5) / recipe.width * 2 - 1) * half * recipe.width / recipe.height
    y = (1 - (np.arange(y0, y1) + 0.5) / recipe.height * 2) * half
    return AxisCosines(x, y)


def with_axis_depth(layers: Layers, cosines: AxisCosines) -> Iterator[tuple[str, Any]]:
    """Layers with the depth along the axis after the distance."""
    for name, plane in layers:
        yield name, plane
        if name == "depth" and plane.shape == cosines.shape:
            yield AXIS_DEPTH, along_axis(plane, cosines)


def along_axis(distance: NDArray[np.float32], cosines: AxisCosines) -> NDArray[np.float32]:
    """Distances from the camera as depths along its axis, float32 (H, W)."""
    out = np.empty(distance.shape, np.float32)
    for first in range(0, len(out), ROWS):
        last = min(first + ROWS, len(out))
        np.multiply(distance[first:last], cosines.rows(first, last), out=out[first:last])
    return out
