"""The light of scenes of many kinds, against what the renderer of an earlier version gave.

`means.json` holds, for each scene, the mean of each component of the light over the picture, from
`SEEDS` renders with a seed each, and its standard error.  It was written by that version (commit
e193542, before lamps were weighed eight at a time) with `python -m tests.render.test_same_picture`.
"""

from __future__ import annotations

import json
import math
import unittest
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.path_slots import COMPONENTS
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Light, Material, Scene
from mill_lane.core.scene.surroundings import Environment, Medium
from mill_lane.demo import shapes
from tests.scenes import WHITE, floor, looking, scene_of, small_demo

MEANS = Path(__file__).with_name("means.json")
SEEDS = 16
RECIPE = Recipe(width=40, height=24, samples=16, min_samples=1, bounces=3, layers=("components",))
LAMP = Material("lamp", (0.0, 0.0, 0.0, 1.0), metallic=0.0, emissive=(9.0, 8.0, 6.0))
BALL = shapes.ball(0.5, 16)


def _under(*more: tuple[object, Material], **how: object) -> Scene:
    """Things on a floor, under a square lamp."""
    square = shapes.sheet(np.array([-0.6, 2.6, 0.6]), np.array([0, 0, -1.2]), np.array([1.2, 0, 0]))
    things = [(floor(4.0), WHITE), (square, LAMP), *more]
    return scene_of(*things, eye=(0, 1.4, 4.5), at=(0, 0.5, 0), **how)  # type: ignore[arg-type]


def _moved(x: float, z: float, y: float = 0.5) -> object:
    return replace(BALL, positions=(BALL.positions + np.float32([x, y, z])).astype(np.float32))


def glass() -> Scene:
    """Clear and rough, thick and thin."""
    clear = Material("clear", (0.9, 1.0, 0.95, 1.0), metallic=0.0, roughness=0.0, transmission=1.0)
    pane = shapes.sheet(np.array([-2.0, 0, 1.4]), np.array([4.0, 0, 0]), np.array([0, 1.2, 0]))
    thick = replace(
        clear, thickness=0.5, attenuation_distance=0.6, attenuation_color=(0.5, 0.9, 0.7)
    )
    return _under(
        (_moved(-1.1, 0.0), thick),
        (_moved(0.0, 0.0), replace(thick, roughness=0.4)),
        (_moved(1.1, 0.0), replace(clear, roughness=0.3)),
        (pane, clear),
    )


def layered() -> Scene:
    """Metal, coat, sheen, a grain along one way, a tinted gloss."""
    base = Material("base", (0.7, 0.4, 0.3, 1.0), metallic=0.0, roughness=0.4)
    return _under(
        (_moved(-1.6, 0.0), replace(base, metallic=1.0, anisotropy=0.8)),
        (_moved(-0.5, 0.0), replace(base, clearcoat=1.0, clearcoat_roughness=0.1)),
        (_moved(0.6, 0.0), replace(base, sheen_color=(0.8, 0.7, 0.9), sheen_roughness=0.5)),
        (_moved(1.7, 0.0), replace(base, specular=0.6, specular_color=(0.2, 0.6, 1.0))),
        environment=Environment((0.2, 0.3, 0.5), (0.5, 0.5, 0.5), (0.1, 0.1, 0.1)),
    )


def lamps() -> Scene:
    """Points and spots near and far, a sun, and fog."""
    rng = np.random.default_rng(9)
    lights = []
    for k in range(21):
        kind = ("point", "spot", "point")[k % 3]
        lamp = Light(f"l{k}", kind, intensity=float(rng.uniform(0.2, 3)), outer_cone=0.9)
        if k % 4 == 0:
            lamp = replace(lamp, range=2.5)
        lights.append((lamp, looking(rng.uniform((-3, 0.3, -3), (3, 3, 3)), (0, 0, 0))))
    lights.append((Light("sun", "directional", intensity=0.8), looking((2, 4, 1), (0, 0, 0))))
    haze = Medium("haze", (-2, 0, -2), (2, 2, 2), 0.2, 0.05, 0.4)
    return _under((_moved(0.0, 0.0), WHITE), lights=tuple(lights), media=(haze,))


def outside() -> Scene:
    """Leaves that let some light through, before a sky with a sun; something that is unlit."""
    leaf = Material("leaf", (0.3, 0.6, 0.2, 0.6), metallic=0.0, alpha_mode="BLEND")
    sign = Material("sign", (0.8, 0.2, 0.2, 1.0), unlit=True)
    cards = []
    for k in range(5):
        at = np.array([-1.6 + 0.7 * k, 0.1, 0.3 * (k % 3)])
        cards.append((shapes.sheet(at, np.array([0.6, 0, 0.2]), np.array([0, 1.0, 0])), leaf))
    post = shapes.sheet(np.array([1.3, 0, -1.0]), np.array([0.8, 0, 0]), np.array([0, 0.8, 0]))
    things = ((floor(6.0), WHITE), *cards, (post, sign))
    sky = Environment(sun_elevation=35.0, sun_azimuth=40.0, strength=0.1)
    return scene_of(*things, eye=(0, 1.0, 4.5), at=(0, 0.4, 0), environment=sky)


def bakery() -> Scene:
    return open_scene(small_demo())


SCENES: dict[str, Callable[[], Scene]] = {
    made.__name__: made for made in (glass, layered, lamps, outside, bakery)
}


def means(scene: Scene) -> tuple[np.ndarray, np.ndarray]:
    """The mean light by component, and its standard error."""
    loaded, found = load(scene, 1), []
    for seed in range(SEEDS):
        session = Session(
            loaded, RECIPE.model_copy(update={"seed": seed}), frame=20, profiled=False
        )
        while not session.done:
            session.step(60.0)
        parts = session.film["components"].astype(float).reshape(-1, len(COMPONENTS), 3)
        found.append(parts.mean((0, 2)) / RECIPE.samples)
    return np.mean(found, 0), np.std(found, 0, ddof=1) / math.sqrt(SEEDS)


class TestSamePicture(unittest.TestCase):
    def test_within_three_standard_errors(self) -> None:
        kept = json.loads(MEANS.read_text())
        self.assertEqual(set(kept), set(SCENES))
        for name, make in SCENES.items():
            want, apart = np.array(kept[name]["mean"]), np.array(kept[name]["error"])
            got, own = means(make())
            within = 3 * np.hypot(apart, own) + 1e-9
            for k, component in enumerate(COMPONENTS):
                self.assertLess(abs(got[k] - want[k]), within[k], f"{name}, {component}")
            self.assertGreater(float(want.sum()), 0.01)
            # What is scattered is known to a few per cent; rare bright lamps in view are not.
            self.assertLess(float(within[1:].sum()), 0.2 * float(want[1:].sum()))


if __name__ == "__main__":
    out = {}
    for name, make in SCENES.items():
        mean, error = means(make())
        out[name] = {"mean": mean.tolist(), "error": error.tolist()}
    MEANS.write_text(json.dumps(out, indent=1) + "\n")
