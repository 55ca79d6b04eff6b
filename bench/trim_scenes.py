"""Scenes of three characters for the bench of trims: copies, scans, cards."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.pictures import encode
from mill_lane.core.scene.model import (
    Camera,
    Geometry,
    Image,
    Light,
    Material,
    Mesh,
    Node,
    Scene,
    Texture,
    TextureUse,
)
from mill_lane.core.scene.parts import part_of
from mill_lane.core.scene.surroundings import Environment
from mill_lane.demo import shapes

SKY = Environment((0.4, 0.5, 0.7), (0.6, 0.6, 0.6), (0.2, 0.2, 0.2))


def picture(name: str, size: int, channels: int, seed: int, mime: str = "image/png") -> Image:
    """Waves and a little grain, in the last of four channels round leaves."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[0:size, 0:size].astype(np.float32) / size
    waves = [np.sin(9 * x + k + seed) * np.cos(8 * y - k) for k in range(min(channels, 3))]
    colours = 128 + 70 * np.stack(waves, 2) + rng.integers(-6, 7, (size, size, 1))
    planes = [np.clip(colours, 0, 255).astype(np.uint8)]
    if channels == 4:
        leaf = ((x * 6 % 1 - 0.5) ** 2 + (y * 6 % 1 - 0.5) ** 2) < 0.16
        planes.append((leaf * 255).astype(np.uint8)[..., None])
    data = encode(np.concatenate(planes, 2), mime)
    return Image(name, mime, size, size, channels, 8, len(data), partial(bytes, data))


def scan(rings: int, seed: int) -> Geometry:
    """A lumpy closed surface with one seam."""
    rng = np.random.default_rng(seed)
    g = shapes.ball(0.5, rings)
    waves = sum(
        size * np.sin(g.positions @ rng.normal(size=3) * often + rng.uniform(0, 6))
        for size, often in ((0.08, 4), (0.03, 13), (0.008, 50))
    )
    points = (g.positions * (1 + np.asarray(waves)[:, None])).astype(np.float32)
    return replace(g, positions=points)


def put(g: Geometry, size: float, turn: float, to: tuple[float, float, float]) -> Geometry:
    """A geometry with a scale, a turn about Y and a move in its vertices."""
    c, s = np.cos(turn), np.sin(turn)
    m = np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]])
    p = (g.positions.astype(float) * size) @ m.T + to
    n = g.normals.astype(float) @ m.T
    return replace(g, positions=p.astype(np.float32), normals=n.astype(np.float32))


def stood(
    name: str, things: list[tuple[Geometry, int]], materials: list[Material], images: list[Image]
) -> Scene:
    """Things on a floor before a camera that walks a little, under a lamp and a sky."""
    ground = shapes.sheet(np.array([-40.0, 0, 10]), np.array([80.0, 0, 0]), np.array([0, 0, -80.0]))
    meshes = [Mesh("ground", (part_of(ground, 0),))]
    meshes += [Mesh(f"{name} {i}", (part_of(g, m),)) for i, (g, m) in enumerate(things)]
    nodes = [Node(m.name, mesh=i) for i, m in enumerate(meshes)]
    nodes.append(Node("camera", camera=0, translation=(0.0, 1.7, 4.0)))
    nodes.append(Node("lamp", light=0, translation=(3.0, 6.0, 2.0)))
    return Scene(
        name,
        tuple(nodes),
        tuple(meshes),
        tuple(materials),
        tuple(Texture(x.name, i) for i, x in enumerate(images)),
        tuple(images),
        lights=(Light("lamp", "point", intensity=300.0),),
        cameras=(Camera("camera", 0.8, 16 / 9),),
        environment=SKY,
        frames=(1, 3),
    )


def street() -> Scene:
    """Sixty baked copies of a facade, each with its own vertices, along a street."""
    house = scan(150, 1)
    things = []
    for i in range(60):
        at = ((-3.0, 3.0)[i % 2], 0.8, 1.0 - 2.0 * (i // 2))
        things.append((put(house, 1.0 + 0.2 * (i % 3), 0.7 * i, at), 1))
    images = [picture("plaster", 4096, 3, 1, "image/jpeg"), picture("plaster_rough", 4096, 3, 2)]
    wall = _dressed("wall", base_texture=TextureUse(0), roughness_texture=TextureUse(1))
    return stood("house", things, [_dressed("ground"), wall], images)


def statues() -> Scene:
    """A dozen scans of 150,000 triangles with 4096-pixel maps of their own."""
    things, materials, images = [], [_dressed("ground")], []
    for i in range(12):
        images.append(picture(f"statue_{i}", 4096, 3, i))
        worn = _dressed(f"statue {i}", base_texture=TextureUse(i))
        materials.append(worn)
        at = (1.4 * (i % 4) - 2.1, 0.5, -1.6 * (i // 4))
        things.append((put(scan(274, 10 + i), 1.0, i, at), 1 + i))
    return stood("statue", things, materials, images)


def cards() -> Scene:
    """Two thousand leaves cut out of cards, in six plants of which each is a mesh of its own."""
    rng = np.random.default_rng(7)
    leaf = shapes.sheet(np.array([-0.2, -0.2, 0.0]), np.array([0.4, 0, 0]), np.array([0, 0.4, 0]))
    things = []
    for plant in range(6):
        spots = rng.normal(size=(330, 3)) * (0.5, 0.5, 0.5) + (1.6 * plant - 4.0, 1.1, -1.0)
        pieces = [put(leaf, 1.0, rng.uniform(0, 6), tuple(at)) for at in spots]
        things.append((_together(pieces), 1))
    images = [picture("leaves", 4096, 4, 3), picture("bark", 2048, 3, 4)]
    green = _dressed("leaves", base_texture=TextureUse(0), alpha_mode="MASK", double_sided=True)
    ground = _dressed("ground", base_texture=TextureUse(1))
    return stood("plant", things, [ground, green], images)


def _together(pieces: list[Geometry]) -> Geometry:
    starts = np.cumsum([0, *(len(g.positions) for g in pieces[:-1])])

    def of(name: str) -> NDArray[Any]:
        return np.concatenate([getattr(g, name) for g in pieces])

    triangles = [g.triangles + np.uint32(n) for g, n in zip(pieces, starts, strict=True)]
    return Geometry(of("positions"), of("normals"), of("uvs"), np.concatenate(triangles))


def _dressed(name: str, **more: Any) -> Material:
    return Material(name, (0.8, 0.8, 0.8, 1.0), metallic=0.0, roughness=0.9, **more)


SCENES: dict[str, Callable[[], Scene]] = {"street": street, "statues": statues, "cards": cards}
