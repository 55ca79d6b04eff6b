"""A camera and a light for scenes that come without, so that something can be seen; both are marked
as added.
"""

from __future__ import annotations

import math
from dataclasses import replace
from fractions import Fraction

import numpy as np

from mill_lane.core.scene.framing import framed
from mill_lane.core.scene.model import Camera, Material, Node, Note, Scene
from mill_lane.core.scene.pose import world_matrices
from mill_lane.core.scene.surroundings import Environment

# What is drawn that wears nothing.
NO_MATERIAL = Material("no material", (0.5, 0.5, 0.5, 1.0), metallic=0.0)
ADDED_CAMERA = "Added camera"  # the name of one that no file had
YFOV = math.radians(40.0)
THREE_QUARTERS = (35.0, 20.0)  # degrees: from which side an added camera looks, from how high
EVEN = (0.35, 0.35, 0.35)  # radiance of the default light's sky


def with_defaults(scene: Scene, light: float, faint: float) -> Scene:
    """The scene, with a camera that frames it and a light where the file has none.

    Parameters
    ----------
    scene : Scene
    light : float
        What its own lights come to, as the radiance of a white surface (`formats.emission`).
    faint : float
        Below this they count for nothing.
    """
    notes = list(scene.notes)
    placed = any(n.camera >= 0 for n in scene.nodes)
    if not placed:
        matrix = framed(scene, *THREE_QUARTERS, YFOV)
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
    else:
        first = next(n for n in scene.nodes if n.camera >= 0)
        shape = scene.cameras[first.camera].shape
        if 0 < shape < 1:
            notes.append(Note("camera_portrait", "look", portrait(first.name, shape)))
    lights = bool(scene.placed_lights) or scene.environment is not None
    if light < faint and not lights:
        scene = replace(scene, environment=_default_light(scene))
        glows = any(max(m.emissive) > 0 for m in scene.materials)
        why = "What shines in the scene lights next to nothing" if glows else "It has no light"
        text = f"{why}: a default light was added, soft, from above left. Light “sky” sets it."
        notes.append(Note("light_added", "look", text))
    elif light < faint:
        text = "The scene's lights give next to nothing: the picture will be black but for them."
        notes.append(Note("light_faint", "look", text))
    return replace(scene, notes=tuple(notes))


def portrait(name: str, shape: float) -> str:
    """What is told of a camera whose frame stands upright."""
    ratio = Fraction(shape).limit_denominator(32)
    return (
        f"The frame of the camera “{name}” stands upright "
        f"({ratio.numerator}:{ratio.denominator}): so do pictures; "
        "width and height of the draft and the final set change it."
    )


def _default_light(scene: Scene) -> Environment:
    """An even grey sky with a soft key light from above left of the camera."""
    camera = world_matrices(scene, 0.0)[scene.camera_node()][:3, :3]
    right, back = camera[:, 0] / np.linalg.norm(camera[:, 0]), camera[:, 2]
    back = back / np.linalg.norm(back)
    key = -0.7 * right + 0.9 * np.array([0.0, 1.0, 0.0]) + 0.6 * back
    x, y, z = (float(v) for v in key / np.linalg.norm(key))
    return Environment(EVEN, EVEN, EVEN, added=True, key=(x, y, z))


def without_defaults(scene: Scene) -> Scene:
    """The scene without the camera and the light that no file had."""
    nodes = tuple(n for n in scene.nodes if not (n.camera >= 0 and scene.cameras[n.camera].added))
    if len(nodes) != len(scene.nodes):
        # An added camera is the last of both lists, and has no children.
        cameras = tuple(c for c in scene.cameras if not c.added)
        scene = replace(scene, nodes=nodes, cameras=cameras)
    if scene.environment is not None and scene.environment.added:
        scene = replace(scene, environment=None)
    return scene
