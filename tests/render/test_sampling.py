"""Aiming at lights: the densities are right, and aiming changes the grain but never the mean."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from mill_lane.core.recipe import Recipe
from mill_lane.core.render.lamps import gather_lights
from mill_lane.core.render.lights import sample_light, sky_density, sky_radiance
from mill_lane.core.render.load import load, pose
from mill_lane.core.render.media import collide, span, transmittance
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Environment, Light, Material, Medium, Scene
from mill_lane.core.scene.pose import world_matrices
from mill_lane.demo import shapes
from tests.scenes import WHITE, disc, floor, mean_luma, render, scene_of

DAWN = Environment((0.1, 0.2, 0.6), (2.0, 1.2, 0.5), (0.05, 0.04, 0.03))
GREY = Material("grey", (0.6, 0.6, 0.6, 1.0), 0.0, 0.5)
LAMP = Material("lamp", (0.0, 0.0, 0.0, 1.0), 0.0, 1.0, emissive=(3.0, 2.0, 1.0))


def by_chance_only(scene: Scene, samples: int, size: int, bounces: int) -> tuple[float, float]:
    """Render without ever aiming at a light: what is found by the BSDF alone counts in full."""
    recipe = Recipe(width=size, height=size, samples=samples, min_samples=1, bounces=bounces)
    session = Session(load(scene, 1), recipe, threads=2, frame=scene.frames[0])
    lights, surfaces = session.world.lights, session.world.surfaces
    instances = surfaces.instances.copy()
    instances[:, 2] = -1
    none = np.zeros(0)
    session.world = session.world._replace(
        lights=lights._replace(rows=lights.rows[:0], chance=none, running=none, sky_row=-1),
        surfaces=surfaces._replace(instances=instances),
    )
    while not session.done:
        session.step(10)
    return mean_luma(session)


class TestTheMeanStays(unittest.TestCase):
    """Veach and Guibas 1995: light sampling and BSDF sampling, weighed together, have the mean of either."""

    def compare(self, scene: Scene, samples: int, reference: int) -> None:
        both, e1 = mean_luma(render(scene, samples=samples, size=16, bounces=2))
        chance, e2 = by_chance_only(scene, reference, 16, 2)
        self.assertLess(abs(both - chance), 3 * math.hypot(e1, e2) + 0.002 * chance, (both, chance, e1, e2))
        self.assertGreater(chance, 0.01)

    def test_sky(self) -> None:
        self.compare(scene_of((floor(8.0), GREY), (shapes.ball(0.7, 24), GREY), eye=(0, 2, 5), environment=DAWN), 128, 1024)

    def test_large_lamp(self) -> None:
        scene = scene_of((floor(8.0), GREY), (disc(1.2, 32, 1.5, up=False), LAMP), eye=(0, 1.0, 5), at=(0, 0.4, 0))
        self.compare(scene, 128, 1024)

    def test_lamp_and_sky_and_fog(self) -> None:
        fog = Medium("fog", (-3, 0, -3), (3, 2, 3), scatter=0.15, absorb=0.05, g=0.3)
        scene = scene_of(
            (floor(8.0), GREY),
            (disc(1.2, 32, 1.5, up=False), LAMP),
            eye=(0, 1.0, 5),
            at=(0, 0.4, 0),
            environment=DAWN,
            media=(fog,),
        )
        self.compare(scene, 256, 2048)

    def test_lamp_seen_in_metal_and_through_a_pane(self) -> None:
        pane = Material("pane", (0.9, 0.9, 0.9, 1), 0.0, 0.0, transmission=1.0, double_sided=True)
        metal = Material("metal", (0.9, 0.8, 0.7, 1.0), 1.0, 0.35)
        glass = shapes.sheet(np.array([-3, 0.9, 3.0]), np.array([6.0, 0, 0]), np.array([0, 0, -6.0]))
        scene = scene_of(
            (floor(8.0), metal), (disc(1.2, 32, 1.5, up=False), LAMP), (glass, pane), eye=(0, 0.7, 5), at=(0, 0.1, 0)
        )
        self.compare(scene, 256, 2048)

    def test_glowing_texture(self) -> None:
        """A lamp whose glow comes from a texture: the look-up is the same for both ways of finding it."""
        from mill_lane.core.scene.model import Texture, TextureUse
        from tests.scenes import picture

        lamp = replace(LAMP, emissive_texture=TextureUse(0), double_sided=True)
        sheet = shapes.sheet(np.array([-1, 1.5, 1.0]), np.array([2.0, 0, 0]), np.array([0, 0, -2.0]))
        scene = scene_of((floor(8.0), GREY), (sheet, lamp), eye=(0, 1.0, 5), at=(0, 0.4, 0))
        scene = replace(scene, images=(picture(4),), textures=(Texture("t", 0),))
        self.compare(scene, 128, 1024)


class TestDensities(unittest.TestCase):
    def lights(self, *lamps: tuple[Light, np.ndarray], environment: Environment | None = None, glow: bool = False) -> object:
        things = [(floor(2.0), WHITE)] + ([(shapes.ball(0.2, 12), LAMP)] if glow else [])
        scene = scene_of(*things, lights=lamps, environment=environment)
        loaded = load(scene, 1)
        world = pose(loaded, 0.0)
        return gather_lights(scene, world_matrices(scene, 0.0), world.accel, world.surfaces, loaded.textures)

    def test_chances_add_up(self) -> None:
        found = self.lights(
            (Light("a", "point"), np.eye(4)), (Light("b", "point", intensity=3.0), np.eye(4)), environment=DAWN, glow=True
        )
        self.assertAlmostEqual(float(found.chance.sum()), 1.0)  # type: ignore[attr-defined]
        self.assertAlmostEqual(found.chance[1] / found.chance[0], 3.0)  # type: ignore[attr-defined]
        self.assertLessEqual(found.chance[found.sky_row], 0.3001)  # type: ignore[attr-defined]

    def test_sky_density_integrates_to_one(self) -> None:
        found = self.lights(environment=DAWN)
        y = (np.arange(2000) + 0.5) / 1000 - 1
        total = sum(sky_density(found, math.sqrt(1 - v * v), v, 0.0) for v in y) * 2 * math.pi * 2 / 2000
        self.assertAlmostEqual(total, 1.0, places=3)

    def test_sky_samples_match_their_density(self) -> None:
        """The mean of radiance over density is the integral of the sky over the sphere."""
        found = self.lights(environment=DAWN)
        rng = np.random.default_rng(0)
        estimate, heights = [], []
        for a, b in rng.random((20000, 2)):
            x, y, z, _, r, _, _, density, delta, _, _, _ = sample_light(found, 0.0, 0.0, 0.0, 0.5, a, b)
            self.assertFalse(delta)
            self.assertAlmostEqual(x * x + y * y + z * z, 1.0, places=9)
            estimate.append(r / density)
            heights.append(y)
        y = (np.arange(4000) + 0.5) / 2000 - 1
        want = float(np.mean([sky_radiance(found.sky, v)[0] for v in y])) * 4 * math.pi  # type: ignore[attr-defined]
        self.assertAlmostEqual(float(np.mean(estimate)) / want, 1.0, delta=0.01)
        self.assertGreater(np.ptp(heights), 1.5)

    def test_no_light_at_all(self) -> None:
        found = self.lights()
        self.assertEqual((len(found.rows), found.sky_row), (0, -1))  # type: ignore[attr-defined]


class TestFogGeometry(unittest.TestCase):
    boxes = np.array([[0, 0, 0, 1, 1, 1, 0.5, 0.5, 0.0], [0.5, 0, 0, 3, 1, 1, 1.0, 1.0, 0.0]], float)

    def test_spans(self) -> None:
        self.assertEqual(span(self.boxes, 0, (-1.0, 0.5, 0.5), (1.0, 0.0, 0.0), 10.0), (1.0, 2.0))
        start, end = span(self.boxes, 0, (-1.0, 5.0, 0.5), (1.0, 0.0, 0.0), 10.0)
        self.assertGreaterEqual(start, end)

    def test_overlapping_boxes_add_up(self) -> None:
        """Beer-Lambert over 0.5 of the first alone, 0.5 of both, 2 of the second alone."""
        got = transmittance(self.boxes, (-1.0, 0.5, 0.5), (1.0, 0.0, 0.0), 100.0)
        self.assertAlmostEqual(got, math.exp(-(0.5 * 0.5 + 0.5 * 1.5 + 2 * 1.0)))

    @settings(max_examples=200)
    @given(st.floats(0, 0.999999))
    def test_collisions_are_where_the_transmittance_says(self, u: float) -> None:
        o, d = (-1.0, 0.5, 0.5), (1.0, 0.0, 0.0)
        at, box = collide(self.boxes, o, d, 100.0, u)
        if box < 0:
            self.assertGreaterEqual(transmittance(self.boxes, o, d, 100.0), 1 - u - 1e-9)
        else:
            self.assertAlmostEqual(transmittance(self.boxes, o, d, at), 1 - u, places=6)
