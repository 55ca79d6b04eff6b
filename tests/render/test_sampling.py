"""Aiming at lights: the densities are right, and aiming changes the grain but never the mean."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import qmc

from mill_lane.core.recipe import Recipe
from mill_lane.core.render import sky, slots
from mill_lane.core.render.load import load
from mill_lane.core.render.pose import pose
from mill_lane.core.render.session import Session
from mill_lane.core.render.world import World
from mill_lane.core.scene.model import Light, Material, Scene
from mill_lane.core.scene.surroundings import Environment, Medium
from mill_lane.demo import shapes
from tests.kernels import (
    collide,
    lamp_chances,
    sample_lamp,
    sky_density,
    sky_radiance,
    span,
    transmittance,
)
from tests.scenes import WHITE, disc, floor, mean_luma, render, scene_of

DAWN = Environment((0.1, 0.2, 0.6), (2.0, 1.2, 0.5), (0.05, 0.04, 0.03))
GREY = Material("grey", (0.6, 0.6, 0.6, 1.0), 0.0, 0.5)
LAMP = Material("lamp", (0.0, 0.0, 0.0, 1.0), 0.0, 1.0, emissive=(3.0, 2.0, 1.0))


def by_chance_only(scene: Scene, samples: int, size: int, bounces: int) -> tuple[float, float]:
    """Render without ever aiming at a light: what is found by the BSDF alone counts in full."""
    recipe = Recipe(width=size, height=size, samples=samples, min_samples=1, bounces=bounces)
    session = Session(load(scene, 1), recipe, threads=2, frame=scene.frames[0])
    session.settings[slots.S_AIM] = 0.0
    while not session.done:
        session.step(10)
    return mean_luma(session)


class TestTheMeanStays(unittest.TestCase):
    """Veach and Guibas 1995:

    light sampling and BSDF sampling, weighed together, have the mean of either.
    """

    def compare(self, scene: Scene, samples: int, reference: int) -> None:
        chance, e2 = by_chance_only(scene, reference, 16, 2)
        self.assertGreater(chance, 0.01)
        for choice in ("estimate", "power", "all"):
            both, e1 = mean_luma(
                render(scene, samples=samples, size=16, bounces=2, light_sampling=choice)
            )
            self.assertLess(
                abs(both - chance),
                3 * math.hypot(e1, e2) + 0.002 * chance,
                (choice, both, chance, e1, e2),
            )

    def test_sky(self) -> None:
        self.compare(
            scene_of(
                (floor(8.0), GREY), (shapes.ball(0.7, 24), GREY), eye=(0, 2, 5), environment=DAWN
            ),
            128,
            1024,
        )

    def test_large_lamp(self) -> None:
        scene = scene_of(
            (floor(8.0), GREY),
            (disc(1.2, 32, 1.5, up=False), LAMP),
            eye=(0, 1.0, 5),
            at=(0, 0.4, 0),
        )
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
        glass = shapes.sheet(
            np.array([-3, 0.9, 3.0]), np.array([6.0, 0, 0]), np.array([0, 0, -6.0])
        )
        scene = scene_of(
            (floor(8.0), metal),
            (disc(1.2, 32, 1.5, up=False), LAMP),
            (glass, pane),
            eye=(0, 0.7, 5),
            at=(0, 0.1, 0),
        )
        self.compare(scene, 256, 2048)

    def test_glowing_texture(self) -> None:
        """A lamp whose glow comes from a texture:

        the look-up is the same for both ways of finding it.
        """
        from mill_lane.core.scene.model import Texture, TextureUse
        from tests.scenes import picture

        lamp = replace(LAMP, emissive_texture=TextureUse(0), double_sided=True)
        sheet = shapes.sheet(
            np.array([-1, 1.5, 1.0]), np.array([2.0, 0, 0]), np.array([0, 0, -2.0])
        )
        scene = scene_of((floor(8.0), GREY), (sheet, lamp), eye=(0, 1.0, 5), at=(0, 0.4, 0))
        scene = replace(scene, images=(picture(4),), textures=(Texture("t", 0),))
        self.compare(scene, 128, 1024)


class TestDensities(unittest.TestCase):
    def world(
        self,
        *lamps: tuple[Light, np.ndarray],
        environment: Environment | None = None,
        glow: bool = False,
    ) -> World:
        things = [(floor(2.0), WHITE)] + ([(shapes.ball(0.2, 12), LAMP)] if glow else [])
        return pose(load(scene_of(*things, lights=lamps, environment=environment), 1), 0.0)

    def test_chances_add_up(self) -> None:
        world = self.world(
            (Light("a", "point"), np.eye(4)),
            (Light("b", "point", intensity=3.0), np.eye(4)),
            environment=DAWN,
            glow=True,
        )
        chance = world.lights.rows[:, slots.L_CHANCE]
        self.assertAlmostEqual(float(chance.sum()), 1.0)
        self.assertAlmostEqual(chance[1] / chance[0], 3.0)
        self.assertLessEqual(chance[world.lights.sky_light], 0.3001)
        settings = np.zeros(slots.SETTINGS)
        settings[slots.S_CHOICE] = slots.ONE_BY_ESTIMATE
        for at in ((0.0, 1.0, 0.0), (0.3, 0.1, 2.0)):
            self.assertAlmostEqual(sum(lamp_chances(world, settings, at)), 1.0)

    def test_estimates_follow_the_distance(self) -> None:
        """Of two equal lamps the one at half the distance is aimed at four times as often."""
        near, far = np.eye(4), np.eye(4)
        near[:3, 3], far[:3, 3] = (0, 1, 0), (0, 2, 0)
        world = self.world((Light("near", "point"), near), (Light("far", "point"), far))
        settings = np.zeros(slots.SETTINGS)
        settings[slots.S_CHOICE] = slots.ONE_BY_ESTIMATE
        a, b = lamp_chances(world, settings, (0.0, 0.0, 0.0))
        self.assertAlmostEqual(a / b, 4.0)

    def test_sky_density_integrates_to_one(self) -> None:
        world = self.world(environment=DAWN)
        y = (np.arange(2000) + 0.5) / 1000 - 1
        total = (
            sum(sky_density(world, math.sqrt(1 - v * v), v, 0.0) for v in y)
            * 2
            * math.pi
            * 2
            / 2000
        )
        self.assertAlmostEqual(total, 1.0, places=3)

    def sky_integral(self, world: World, n: int = 300) -> float:
        total = 0.0
        for v in (np.arange(n) + 0.5) / n * 2 - 1:
            for p in (np.arange(n) + 0.5) / n * 2 * math.pi:
                r = math.sqrt(1 - v * v)
                total += sky_radiance(world, r * math.cos(p), v, r * math.sin(p))[0]
        return total * 4 * math.pi / n / n

    def test_sky_samples_match_their_density(self) -> None:
        """The mean of radiance over density is the integral of the sky over the sphere:

        a gradient, and a picture.
        """
        rng = np.random.default_rng(0)
        pixels = rng.random((16, 32, 3)).astype(np.float32) ** 4 * 5
        for environment in (DAWN, Environment(pixels=pixels), Environment(sun_elevation=-1.0)):
            world = self.world(environment=environment)
            estimate, heights = [], []
            for a, b in qmc.Sobol(2, seed=0).random(4096):
                got = sample_lamp(world, world.lights.sky_light, (0, 0, 0), 0.5, a, b)
                assert got is not None
                self.assertFalse(got["delta"])
                self.assertAlmostEqual(float(np.linalg.norm(got["direction"])), 1.0, places=9)
                self.assertAlmostEqual(
                    got["density"],
                    sky_density(world, *got["direction"]),
                    delta=1e-6 * got["density"],
                )
                estimate.append(got["light"][0] / got["density"])
                heights.append(got["direction"][1])
            self.assertAlmostEqual(
                float(np.mean(estimate)) / self.sky_integral(world), 1.0, delta=0.02
            )
            self.assertGreater(np.ptp(heights), 1.5)

    def test_no_light_at_all(self) -> None:
        world = self.world()
        self.assertEqual((world.light_count, world.lights.sky_light), (0, -1))


class TestClearSky(unittest.TestCase):
    def test_relative_luminance(self) -> None:
        """CIE S 011, type 12:

        1 at the zenith; the formula written out for two directions (coefficients from memory).
        """
        sun = math.radians(60)  # its angle to the zenith
        self.assertAlmostEqual(
            float(sky.clear_luminance(np.array(0.0), np.array(sun), sun)), 1.0, places=12
        )

        def f(x: float) -> float:
            brightness = 10 * (math.exp(-3 * x) - math.exp(-1.5 * math.pi))
            return 1 + brightness + 0.45 * math.cos(x) ** 2

        want = f(0.2) * (1 - math.exp(-0.32 / math.cos(1.0))) / (f(sun) * (1 - math.exp(-0.32)))
        self.assertAlmostEqual(
            float(sky.clear_luminance(np.array(1.0), np.array(0.2), sun)), want, places=12
        )

    def test_level_ground_gets_its_strength(self) -> None:
        """Sun and sky together give level ground the strength that was asked for, whatever the
        height of the sun.
        """
        matt = Material("matt", (0.5, 0.5, 0.5, 1), 0.0, 1.0, ior=1.0)
        for elevation in (10.0, 40.0):
            scene = scene_of((floor(40.0), matt), eye=(0, 6, 0.001), up=(0, 0, -1), yfov=0.01)
            mean, error = mean_luma(
                render(
                    scene,
                    samples=256,
                    size=8,
                    bounces=0,
                    sun_elevation=elevation,
                    sky_strength=4.0,
                    light_sampling="all",
                )
            )
            self.assertAlmostEqual(mean, 0.5 / math.pi * 4.0, delta=max(4 * error, 0.02))

    def test_the_sun_stands_where_it_should(self) -> None:
        np.testing.assert_allclose(sky.sun_direction(0.0, 0.0), [0, 0, -1], atol=1e-12)
        np.testing.assert_allclose(sky.sun_direction(0.0, math.pi / 2), [1, 0, 0], atol=1e-12)
        self.assertAlmostEqual(sky.sun_direction(math.radians(30), 1.0)[1], 0.5)
        self.assertGreater(sky.daylight(1.0).sun_normal, sky.daylight(0.1).sun_normal)


class TestFogGeometry(unittest.TestCase):
    boxes = np.array(
        [[0, 0, 0, 1, 1, 1, 0.5, 0.5, 0.0], [0.5, 0, 0, 3, 1, 1, 1.0, 1.0, 0.0]], float
    )

    def test_spans(self) -> None:
        self.assertEqual(span(self.boxes, 0, (-1.0, 0.5, 0.5), (1.0, 0.0, 0.0), 10.0), (1.0, 2.0))
        start, end = span(self.boxes, 0, (-1.0, 5.0, 0.5), (1.0, 0.0, 0.0), 10.0)
        self.assertGreaterEqual(start, end)

    def test_overlapping_boxes_add_up(self) -> None:
        """Beer-Lambert over 0.5 of the first alone, 0.5 of both, 2 of the second alone."""
        got = transmittance(self.boxes, (-1.0, 0.5, 0.5), (1.0, 0.0, 0.0), 100.0)
        self.assertAlmostEqual(got, math.exp(-(0.5 * 0.5 + 0.5 * 1.5 + 2 * 1.0)))

    @settings(max_examples=200, deadline=None)
    @given(st.floats(0, 0.999999))
    def test_collisions_are_where_the_transmittance_says(self, u: float) -> None:
        o, d = (-1.0, 0.5, 0.5), (1.0, 0.0, 0.0)
        at, box = collide(self.boxes, o, d, 100.0, u)
        if box < 0:
            self.assertGreaterEqual(transmittance(self.boxes, o, d, 100.0), 1 - u - 1e-9)
        else:
            self.assertAlmostEqual(transmittance(self.boxes, o, d, at), 1 - u, places=6)
