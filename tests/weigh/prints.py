"""A print that stands before a camera, for tests of what the shot shows."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from mill_lane.core.render.load import load
from mill_lane.core.scene.model import (
    Geometry,
    Material,
    Scene,
    Texture,
    TextureUse,
)
from mill_lane.core.weigh.observe import observe
from mill_lane.core.weigh.visibility import Observer, View
from mill_lane.demo import shapes
from tests.scenes import picture

HEIGHT = 1080


MIRROR = Material("mirror", (1, 1, 1, 1), metallic=1.0, roughness=0.0)


TEXTURED = Material("print", (1, 1, 1, 1), metallic=0.0, base_texture=TextureUse(0))


def upright(width: float = 2.0, z: float = 0.0, turn: float = 0.0) -> Geometry:
    """A square facing +Z, turned about the Y axis."""
    c, s = math.cos(turn), math.sin(turn)
    along = np.array([width * c, 0, -width * s])
    return shapes.sheet(np.array([0, -width / 2, z]) - along / 2, along, np.array([0, width, 0]))


def seen_by(scene: Scene, wide: int = 64) -> View:
    return observe(Observer(load(scene, 1), 1.0, HEIGHT, wide=wide))


def with_print(scene: Scene, **more: object) -> Scene:
    return replace(scene, images=(picture(8),), textures=(Texture("print", 0),), **more)
