"""Scenes of other characters for the bench of the denoiser."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from mill_lane.core.scene.model import Camera, Geometry, Material, Mesh, Node, Scene, Vec3
from mill_lane.core.scene.parts import part_of
from mill_lane.core.scene.surroundings import Environment, Medium
from mill_lane.demo import shapes

GREY = Material("grey", (0.6, 0.6, 0.6, 1.0), metallic=0.0, roughness=0.8)
LAMP = Material("lamp", (0.0, 0.0, 0.0, 1.0), metallic=0.0, emissive=(12.0, 11.0, 9.0))


def colour(name: str, rgb: Vec3, rough: float = 0.8, metal: float = 0.0) -> Material:
    return Material(name, (*rgb, 1.0), metallic=metal, roughness=rough)


def placed(g: Geometry, at: Vec3) -> Geometry:
    return replace(g, positions=(g.positions + np.float32(at)).astype(np.float32))


def sheet(at: Vec3, along: Vec3, up: Vec3) -> Geometry:
    return shapes.sheet(*(np.array(v, float) for v in (at, along, up)))


def scene(name: str, things: list[tuple[Geometry, Material]], **more: object) -> Scene:
    """Things before a camera at (0, 1.2, 5) that looks along -Z."""
    nodes = [Node(f"thing {i}", mesh=i) for i in range(len(things))]
    nodes.append(Node("camera", translation=(0.0, 1.2, 5.0), camera=0))
    return Scene(
        name,
        nodes=tuple(nodes),
        meshes=tuple(Mesh(f"mesh {i}", (part_of(g, i),)) for i, (g, _) in enumerate(things)),
        materials=tuple(m for _, m in things),
        cameras=(Camera("camera", 0.7, 16 / 9),),
        **more,  # type: ignore[arg-type]
    )


def room(walls: Material) -> list[tuple[Geometry, Material]]:
    """Floor, back wall and two sides; a lamp in the ceiling."""
    both = replace(walls, double_sided=True)
    return [
        (sheet((-3, 0, 3), (6, 0, 0), (0, 0, -6)), replace(both, name="floor")),
        (sheet((-3, 0, -3), (6, 0, 0), (0, 3, 0)), both),
        (sheet((-3, 0, 3), (0, 0, -6), (0, 3, 0)), colour("left", (0.7, 0.2, 0.15))),
        (sheet((3, 0, -3), (0, 0, 6), (0, 3, 0)), colour("right", (0.2, 0.5, 0.25))),
        (sheet((-0.7, 2.95, -0.7), (1.4, 0, 0), (0, 0, 1.4)), LAMP),
    ]


def balls(count: int, radius: float, material: Callable[[int], Material]) -> list:
    rng = np.random.default_rng(11)
    ball = shapes.ball(radius, 24)
    out = []
    for k in range(count):
        x, z = rng.uniform(-2.0, 2.0), rng.uniform(-2.0, 1.5)
        out.append((placed(ball, (x, radius, z)), material(k)))
    return out


def glossy() -> Scene:
    """A room of polished things."""
    shades = [(0.9, 0.6, 0.3), (0.4, 0.5, 0.8), (0.7, 0.7, 0.7)]
    things = balls(9, 0.35, lambda k: colour(f"b{k}", shades[k % 3], 0.05 + 0.1 * (k % 4), k % 2))
    return scene("glossy", room(colour("wall", (0.7, 0.68, 0.6), 0.25)) + things)


def foliage() -> Scene:
    """Leaves in the sun, each a square of its own."""
    rng = np.random.default_rng(12)
    leaves = []
    for k in range(260):
        at = rng.uniform((-2.4, 0.2, -2), (2.4, 2.6, 2))
        a, b = rng.normal(size=(2, 3))
        a, b = (0.22 * v / np.linalg.norm(v) for v in (a, b))
        green = (0.1 + 0.2 * rng.random(), 0.35 + 0.3 * rng.random(), 0.08)
        leaf = replace(colour(f"l{k}", green), double_sided=True)
        leaves.append((shapes.sheet(at, a, b), leaf))
    ground = (sheet((-9, 0, 9), (18, 0, 0), (0, 0, -18)), colour("ground", (0.4, 0.3, 0.2)))
    return scene("foliage", [ground, *leaves], environment=Environment(sun_elevation=40.0))


def small_lights() -> Scene:
    """Twelve bright little bulbs."""
    bulb = replace(LAMP, emissive=(900.0, 800.0, 600.0))
    ball = shapes.ball(0.02, 8)
    lit = [
        (placed(ball, (-2.2 + 0.4 * k, 2.0 + 0.2 * (k % 3), -1.5 + 0.6 * (k % 4))), bulb)
        for k in range(12)
    ]
    return scene("small_lights", room(GREY)[:4] + lit + balls(7, 0.4, lambda k: GREY))


def fog() -> Scene:
    """A room full of haze."""
    haze = Medium("haze", (-3, 0, -3), (3, 3, 3), 0.25, 0.02, 0.3)
    return scene("fog", room(GREY) + balls(6, 0.45, lambda k: GREY), media=(haze,))


def blurred() -> Scene:
    """Out of focus: see the recipe's lens, which the camera says."""
    things = balls(12, 0.3, lambda k: colour(f"b{k}", (0.2 + 0.06 * k, 0.5, 0.8 - 0.05 * k)))
    made = scene("blurred", room(GREY) + things)
    return replace(made, cameras=(replace(made.cameras[0], f_stop=1.4, focus_distance=5.5),))


SCENES: dict[str, Callable[[], Scene]] = {
    "glossy": glossy,
    "foliage": foliage,
    "small_lights": small_lights,
    "fog_room": fog,
    "blurred": blurred,
}
