"""Scenes of four characters for the bench of path tracing: the bakery, leaves, scans, glass."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cache

from bench.demo import folder, full_demo
from bench.denoise_scenes import GREY, balls, placed, room, scene, sheet
from bench.trim_scenes import cards, statues
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.render.load import Loaded, load
from mill_lane.core.render.texture_cache import TextureCache
from mill_lane.core.scene.model import Geometry, Material, Scene, Vec3
from mill_lane.demo import shapes

THREADS = 2


def clear(name: str, rough: float, thickness: float) -> Material:
    """Glass: a pane that bends nothing where it has no thickness."""
    tint: Vec3 = (0.92, 0.98, 0.95)
    return Material(
        name,
        (*tint, 1.0),
        metallic=0.0,
        roughness=rough,
        transmission=1.0,
        thickness=thickness,
        attenuation_color=tint,
        attenuation_distance=0.5,
    )


def glass() -> Scene:
    """A room of glass balls, clear and rough, behind three panes."""
    ball = shapes.ball(0.32, 40)
    things: list[tuple[Geometry, Material]] = room(GREY)
    for k in range(12):
        at = (0.75 * (k % 4) - 1.1, 0.33, 0.8 - 0.9 * (k // 4))
        things.append((placed(ball, at), clear(f"ball {k}", 0.25 * (k % 2), 0.5)))
    for k in range(3):
        pane = sheet((-2.4, 0.0, 1.6 + 0.4 * k), (4.8, 0, 0), (0, 2.6, 0))
        things.append((pane, replace(clear(f"pane {k}", 0.0, 0.0), double_sided=True)))
    return scene("glass", things + balls(4, 0.2, lambda k: GREY))


MADE: dict[str, Callable[[], Scene]] = {"foliage": cards, "statues": statues, "glass": glass}
NAMES = ("bakery", *MADE)


def opened(name: str) -> Scene:
    """One of the scenes, from a file that is made once."""
    path = full_demo()[0] if name == "bakery" else folder() / f"{name}-traced.glb"
    if not path.exists():
        write_glb(MADE[name](), path)
    return open_scene(path)


@cache
def held(name: str) -> Loaded:
    """One of the scenes in memory, its decoded textures kept on the disk."""
    return load(opened(name), THREADS, cache=TextureCache(folder() / "textures"))
