"""Where a camera has to stand so that all of a scene is in its picture."""

from __future__ import annotations

import math

import numpy as np

from mill_lane.core.scene.model import F64, Scene
from mill_lane.core.scene.pose import world_box, world_matrices

FILL = 0.9  # of the picture's height, or of as much of its width, that the scene takes
SIDES = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], float)


def drawn_corners(scene: Scene, time: float = 0.0) -> F64:
    """The corners (N, 3) of the boxes round everything drawn, in the world, metres."""
    matrices = world_matrices(scene, time)
    out = []
    for node, mesh in scene.instances:
        for p in scene.meshes[mesh].parts:
            lo, hi = np.array(p.bounds_min), np.array(p.bounds_max)
            corners = lo + SIDES * (hi - lo)
            out.append(corners @ matrices[node][:3, :3].T + matrices[node][:3, 3])
    return np.concatenate(out)


def world_bounds(scene: Scene) -> tuple[F64, F64]:
    """The box round everything drawn in the first frame: (min, max), each (3,)."""
    matrices = world_matrices(scene, 0.0)
    boxes = [
        world_box(matrices[n], np.array(p.bounds_min), np.array(p.bounds_max))
        for n, m in scene.instances
        for p in scene.meshes[m].parts
    ]
    return np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)


def framed(scene: Scene, azimuth: float, elevation: float, yfov: float, fill: float = FILL) -> F64:
    """Put a camera where it sees all of a scene.

    Parameters
    ----------
    scene : Scene
    azimuth : float
        Degrees from +Z towards +X, in which direction of the scene the camera stands.
    elevation : float
        Degrees above the horizon.
    yfov : float
        The full vertical angle, radians.
    fill : float
        Share of the picture that the scene takes.

    Returns
    -------
    array of float64, (4, 4)
        Camera to world.
    """
    a, e = math.radians(azimuth), math.radians(min(max(elevation, -89.0), 89.0))
    back = np.array([math.sin(a) * math.cos(e), math.sin(e), math.cos(a) * math.cos(e)])
    right = np.cross([0.0, 1.0, 0.0], back)
    right /= np.linalg.norm(right)
    up = np.cross(back, right)
    lo, hi = world_bounds(scene)
    corners = drawn_corners(scene) - (lo + hi) / 2
    x, y, z = corners @ right, corners @ up, corners @ back
    slope = math.tan(yfov / 2) * fill
    # How far back each corner asks for, when the camera looks at (cx, cy): seen |x| and |y| over
    # the distance are at most the slope.  Both sides of either axis bind where they are balanced.
    reach, middle = 0.0, []
    for side in (x, y):
        high, low = float((side + slope * z).max()), float((-side + slope * z).max())
        middle.append((high - low) / 2)
        reach = max(reach, (high + low) / 2 / slope)
    size = float(np.linalg.norm(hi - lo))
    reach = max(reach, float(z.max()) + 0.05 * size, 1e-3)
    matrix = np.eye(4)
    matrix[:3, :3] = np.stack([right, up, back], 1)
    matrix[:3, 3] = (lo + hi) / 2 + middle[0] * right + middle[1] * up + reach * back
    return matrix
