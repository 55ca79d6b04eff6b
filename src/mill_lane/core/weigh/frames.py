"""The camera over the frame range, and where things stand in each frame."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.scene.model import Part, Scene
from mill_lane.core.scene.pose import node_matrix, world_box, world_matrices

MOST_FRAMES = 240
# By mesh and part: metres, which of the frames, and the node.
Nearest = dict[tuple[int, int], tuple[float, int, int]]


def frames_looked_at(frames: tuple[int, int]) -> list[int]:
    """Every frame of the range, or an even spread of 240 of them with both ends where there are
    more.
    """
    first, last = frames
    n = last - first + 1
    if n <= MOST_FRAMES:
        return list(range(first, last + 1))
    return sorted({first + round(i * (n - 1) / (MOST_FRAMES - 1)) for i in range(MOST_FRAMES)})


@dataclass(frozen=True, eq=False)
class Track:
    """The camera by frame:

    positions and unit directions (F, 3), and half the opening angles in radians; these are 0 for an
    orthographic camera, of which `flat` has half the width and height in metres.
    """

    name: str
    positions: NDArray[np.float64]
    forward: NDArray[np.float64]
    right: NDArray[np.float64]
    up: NDArray[np.float64]
    half_width: float
    half_height: float
    flat: tuple[float, float]
    matrices: NDArray[np.float64]  # (F or 1, nodes, 4, 4): one when nothing but the camera moves

    @property
    def still(self) -> NDArray[np.float64]:
        """Where everything stands in the first frame."""
        first: NDArray[np.float64] = self.matrices[0]
        return first

    def boxes(
        self, parts: list[tuple[int, int, int, Part]]
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """World boxes of placed parts, each (F or 1, N, 3)."""
        lo = np.empty((len(self.matrices), len(parts), 3))
        hi = np.empty_like(lo)
        for f, matrices in enumerate(self.matrices):
            for j, (node, _, _, p) in enumerate(parts):
                lo[f, j], hi[f, j] = world_box(
                    matrices[node], np.array(p.bounds_min), np.array(p.bounds_max)
                )
        return lo, hi

    def in_view(
        self, f: int, lo: NDArray[np.float64], hi: NDArray[np.float64]
    ) -> NDArray[np.bool_]:
        """Whether a box (N, 3) reaches into the camera's pyramid:

        never wrongly no, now and then wrongly yes.
        """
        centre, half = (lo + hi) / 2 - self.positions[f], (hi - lo) / 2
        inside = np.ones(len(lo), bool)
        sides = (
            (self.right[f], self.half_width, self.flat[0]),
            (self.up[f], self.half_height, self.flat[1]),
        )
        for axis, angle, extent in sides:
            for sign in (1.0, -1.0):
                # The inward normal of a side plane through the camera.
                n = self.forward[f] * math.sin(angle) - sign * axis * math.cos(angle)
                inside &= centre @ n + half @ np.abs(n) + extent > 0
        return inside & self.in_front(f, lo, hi)

    def pixel(self, distance: float, height: int) -> float:
        """How wide a pixel of a picture of `height` rows is at a distance; metres."""
        return 2 * (self.flat[1] or math.tan(self.half_height) * distance) / height

    def in_front(
        self, f: int, lo: NDArray[np.float64], hi: NDArray[np.float64]
    ) -> NDArray[np.bool_]:
        """Whether a box (N, 3) reaches before the plane through the camera."""
        centre, half = (lo + hi) / 2 - self.positions[f], (hi - lo) / 2
        n = self.forward[f]
        found: NDArray[np.bool_] = centre @ n + half @ np.abs(n) > 0
        return found


def camera_track(
    scene: Scene, frames: list[int], aspect: float, camera: str | None = None
) -> Track:
    """Follow the camera over frames.

    Parameters
    ----------
    scene : Scene
    frames : list of int
    aspect : float
        Width over height of the picture.
    camera : str or None

    Raises
    ------
    MillError
        When there is no such camera.
    """
    try:
        node = scene.camera_node(camera)
    except KeyError as e:
        raise MillError(
            f"The scene has no camera “{camera or ''}”.",
            "Name one of the cameras of the scene.",
        ) from e
    still = stands_still(scene, [n for n, _ in scene.instances])
    posed = [world_matrices(scene, scene.seconds(f)) for f in (frames[:1] if still else frames)]
    own = np.array([node_matrix(scene, node, scene.seconds(f)) for f in frames])
    axes = own[:, :3, :3] / np.linalg.norm(own[:, :3, :3], axis=1, keepdims=True)
    own_camera = scene.cameras[scene.nodes[node].camera]
    flat = own_camera.half_height or 0.0
    half = 0.0 if flat else own_camera.yfov / 2
    return Track(
        name=named(scene, node),
        positions=own[:, :3, 3],
        forward=-axes[:, :, 2],
        right=axes[:, :, 0],
        up=axes[:, :, 1],
        half_width=math.atan(math.tan(half) * aspect),
        half_height=half,
        flat=(flat * aspect, flat),
        matrices=np.array(posed),
    )


def named(scene: Scene, node: int) -> str:
    """The name of the camera at a node, as `Scene.camera_names` has it."""
    placed = [i for i, n in enumerate(scene.nodes) if n.camera >= 0]
    return scene.camera_names[placed.index(node)]


def stands_still(scene: Scene, nodes: list[int]) -> bool:
    """Whether none of the nodes moves, nor anything above them."""
    moving = {i for i, n in enumerate(scene.nodes) if n.channels}
    return not moving or not any(_above(scene, i, moving) for i in set(nodes))


def _above(scene: Scene, i: int, moving: set[int]) -> bool:
    while i >= 0:
        if i in moving:
            return True
        i = scene.nodes[i].parent
    return False
