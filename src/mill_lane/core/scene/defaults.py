"""A camera and a light for scenes that come without, so that something can be seen; both are marked
as added.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from mill_lane.core.scene.model import Camera, Environment, Node, Note, Scene
from mill_lane.core.scene.pose import world_box, world_matrices

ADDED_CAMERA = "Added camera"  # the name of one that no file had
YFOV = math.radians(40.0)


def world_bounds(scene: Scene) -> tuple[np.ndarray, np.ndarray]:
    """The box round everything drawn in the first frame: (min, max), each (3,)."""
    matrices = world_matrices(scene, 0.0)
    boxes = [
        world_box(matrices[n], np.array(p.bounds_min), np.array(p.bounds_max))
        for n, m in scene.instances
        for p in scene.meshes[m].parts
    ]
    return np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)


def with_defaults(scene: Scene) -> Scene:
    """The scene, with a camera that frames it and an even sky where the file has none."""
    notes = list(scene.notes)
    placed = any(n.camera >= 0 for n in scene.nodes)
    if not placed:
        lo, hi = world_bounds(scene)
        centre, radius = (lo + hi) / 2, max(float(np.linalg.norm(hi - lo)) / 2, 1e-3)
        back = np.array([0.35, 0.3, 1.0]) / np.linalg.norm([0.35, 0.3, 1.0])
        right = np.cross([0, 1, 0], back)
        right /= np.linalg.norm(right)
        matrix = np.eye(4)
        matrix[:3, :3] = np.stack([right, np.cross(back, right), back], 1)
        matrix[:3, 3] = centre + back * radius / math.sin(YFOV / 2)
        camera = Camera(ADDED_CAMERA, YFOV, added=True)
        node = Node(ADDED_CAMERA, matrix=matrix, camera=len(scene.cameras))
        scene = replace(scene, cameras=(*scene.cameras, camera), nodes=(*scene.nodes, node))
        notes.append(
            Note(
                "camera_added",
                "look",
                "The scene has no camera: one was added that frames all of it.",
            )
        )
    emits = any(max(m.emissive) > 0 or m.unlit for m in scene.materials)
    if not scene.placed_lights and not emits and scene.environment is None:
        even = (0.8, 0.8, 0.8)
        scene = replace(scene, environment=Environment(even, even, even, added=True))
        notes.append(
            Note("light_added", "look", "The scene has no light: an even grey sky was added.")
        )
    return replace(scene, notes=tuple(notes))
