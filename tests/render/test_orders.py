"""Adaptive sampling, the order of tiles, previews and limits."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np

from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.session import Session
from mill_lane.core.render.settings import Preview
from mill_lane.core.scene.model import (
    Light,
    Scene,
)
from mill_lane.demo import shapes
from tests.render.test_physics import GREY, LAMP, MATT, room
from tests.scenes import disc, floor, mean_luma, render, scene_of


class TestLimits(unittest.TestCase):
    def test_limits_by_kind(self) -> None:
        """No diffuse bounces leaves only direct diffuse light; the other kinds are not touched."""
        scene = room()
        layers = ("components",)
        free = render(scene, samples=64, size=16, bounces=4, layers=layers).layers()
        held = render(
            scene, samples=64, size=16, bounces=4, bounces_diffuse=0, layers=layers
        ).layers()
        self.assertLess(held["indirect_diffuse"].mean(), 0.25 * free["indirect_diffuse"].mean())
        self.assertAlmostEqual(
            held["direct_diffuse"].mean() / free["direct_diffuse"].mean(), 1.0, delta=0.02
        )

    def test_early_end_keeps_the_mean(self) -> None:
        scene = room()
        want, e1 = mean_luma(render(scene, samples=256, size=16, bounces=6))
        got, e2 = mean_luma(
            render(scene, samples=512, size=16, bounces=6, russian_roulette_threshold=0.5)
        )
        self.assertLess(abs(got - want), 3.5 * math.hypot(e1, e2) + 0.002 * want)
        fewer = render(
            scene, samples=16, size=16, bounces=6, russian_roulette_threshold=0.5
        ).rays_by_kind()
        more = render(scene, samples=16, size=16, bounces=6).rays_by_kind()
        self.assertLess(sum(fewer.values()), sum(more.values()))

    def test_shared_patterns_repeat_in_blocks(self) -> None:
        scene = scene_of(
            (floor(80.0), MATT), (disc(3.0, 24, 4.0, up=False), LAMP), eye=(0, 3, 6), yfov=0.02
        )
        picture = render(scene, samples=1, size=16, bounces=0, pattern_block=4).layers()["beauty"][
            ..., 1
        ]
        alone = render(scene, samples=1, size=16, bounces=0).layers()["beauty"][..., 1]
        leaves = picture.reshape(4, 4, 4, 4).transpose(0, 2, 1, 3).reshape(16, 16)
        self.assertLess(
            leaves.std(1).mean(),
            0.5 * alone.reshape(4, 4, 4, 4).transpose(0, 2, 1, 3).reshape(16, 16).std(1).mean(),
        )

    def test_a_lamp_below_the_threshold_is_skipped_and_a_scaled_one_shines_less(self) -> None:
        near, far = np.eye(4), np.eye(4)
        near[:3, 3], far[:3, 3] = (0, 1, 0), (0, 60, 0)
        lamps = (
            (Light("near", "point", intensity=1.0), near),
            (Light("far", "point", intensity=1.0), far),
        )
        scene = scene_of(
            (floor(1.0), MATT), eye=(0, 3, 0.01), up=(0, 0, -1), yfov=0.1, lights=lamps
        )
        both = render(
            scene, samples=16, size=8, bounces=0, layers=("lights",), light_sampling="all"
        ).layers()
        held = render(
            scene,
            samples=16,
            size=8,
            bounces=0,
            layers=("lights",),
            light_sampling="all",
            light_threshold=0.01,
        ).layers()
        self.assertGreater(both["light far"].mean(), 0)
        self.assertEqual(held["light far"].mean(), 0)
        np.testing.assert_allclose(held["light near"], both["light near"], rtol=1e-5)
        dim = render(
            scene,
            samples=16,
            size=8,
            bounces=0,
            layers=("lights",),
            light_sampling="all",
            light_scales={"near": 0.25},
        )
        np.testing.assert_allclose(dim.layers()["light near"], both["light near"] * 0.25, rtol=1e-5)
        off = render(
            scene, samples=16, size=8, bounces=0, layers=("lights",), light_scales={"near": 0.0}
        ).layers()
        self.assertEqual(off["light near"].mean(), 0)
        self.assertGreater(off["light far"].mean(), 0)


class TestPreviews(unittest.TestCase):
    def picture(self, scene: Scene, preview: Preview, **more: Any) -> np.ndarray:
        recipe = Recipe(width=24, height=24, samples=32, min_samples=1, bounces=2, **more)
        session = Session(load(scene, 1), recipe, threads=2, preview=preview)
        while not session.done:
            session.step(10)
        return session.layers()["beauty"]

    def test_switches(self) -> None:
        scene = room()
        plain = self.picture(scene, Preview()).mean()
        self.assertLess(self.picture(scene, Preview(indirect=False)).mean(), plain)
        self.assertGreater(self.picture(scene, Preview(shadows=False)).mean(), plain)
        self.assertNotAlmostEqual(
            float(self.picture(scene, Preview(fog=False)).mean()), float(plain), places=3
        )
        self.assertTrue(Preview().plain and not Preview(fog=False).plain)

    def test_one_component_and_one_object(self) -> None:
        scene = room()
        alone = self.picture(scene, Preview(only_component="direct_diffuse"))
        self.assertTrue(0 < alone.mean() < self.picture(scene, Preview()).mean())
        ball = self.picture(scene, Preview(only_object="thing 1", fog=False))
        self.assertLess((ball.sum(2) > 0.9).mean(), 0.2)

    def test_occlusion_of_an_open_floor_and_in_a_corner(self) -> None:
        """An open floor sees everything; where two walls meet, half of the cosine-weighted
        directions are shut.
        """
        open_floor = scene_of((floor(40.0), MATT), eye=(0, 1, 0.01), up=(0, 0, -1), yfov=0.1)
        self.assertAlmostEqual(
            float(self.picture(open_floor, Preview(view="occlusion")).mean()), 1.0, places=5
        )
        corner = shapes.sheet(
            np.array([0, 0, 20.0]), np.array([0, 0, -40.0]), np.array([0, 40.0, 0])
        )
        scene = scene_of(
            (floor(40.0), MATT),
            (corner, MATT),
            eye=(0.01, 1, 0.01),
            at=(0.002, 0, 0),
            up=(0, 0, -1),
            yfov=0.001,
        )
        got = float(self.picture(scene, Preview(view="occlusion", occlusion_reach=100.0)).mean())
        self.assertAlmostEqual(got, 0.5, delta=0.02)

    def test_wires(self) -> None:
        scene = scene_of(
            (
                shapes.sheet(
                    np.array([-2, 0, 2.0]), np.array([4, 0, 0.0]), np.array([0, 0, -4.0]), (4, 4)
                ),
                MATT,
            ),
            eye=(0, 6, 0.01),
            up=(0, 0, -1),
            yfov=0.6,
        )
        picture = self.picture(scene, Preview(view="wires"))[..., 0]
        self.assertGreater(float(np.percentile(picture, 95)), 2 * float(np.percentile(picture, 2)))


class TestAdaptive(unittest.TestCase):
    def scene(self) -> Scene:
        return scene_of(
            (floor(3.0), GREY),
            (disc(0.5, 24, 1.0, up=False), LAMP),
            eye=(0, 2.0, 7),
            at=(0, 0.4, 0),
            yfov=0.5,
        )

    def test_light_is_kept_and_samples_are_saved(self) -> None:
        """At most 0.5 % of the light is lost to stopping early; empty background stops at the
        minimum (common practice).
        """
        reference = mean_luma(render(self.scene(), samples=256, size=48, bounces=1))[0]
        means, saved = [], []
        for seed in (1, 2, 3, 4):
            session = render(
                self.scene(), samples=256, min_samples=16, noise=0.06, size=48, bounces=1, seed=seed
            )
            means.append(mean_luma(session)[0])
            saved.append(session.samples_mean)
            self.assertEqual(int(session.film.samples.min()), 16)
            self.assertEqual(int(session.film.samples[:4].max()), 16)  # the black sky
        self.assertLess(np.mean(saved), 200)
        self.assertAlmostEqual(float(np.mean(means)) / reference, 1.0, delta=0.005)

    def test_equal_minimum_and_maximum_switch_it_off(self) -> None:
        session = render(self.scene(), samples=16, min_samples=16, noise=0.5, size=24, bounces=1)
        self.assertTrue((session.film.samples == 16).all())

    def test_share_of_clean_pixels_ends_it(self) -> None:
        all_of_them = render(
            self.scene(), samples=512, min_samples=16, noise=0.08, size=32, bounces=1
        )
        most = render(
            self.scene(),
            samples=512,
            min_samples=16,
            noise=0.08,
            converged_fraction=0.8,
            size=32,
            bounces=1,
        )
        self.assertEqual(most.done, "noise")
        self.assertGreaterEqual(most.converged_fraction, 0.8)
        self.assertLessEqual(most.samples_mean, all_of_them.samples_mean)


class TestOrders(unittest.TestCase):
    recipe = Recipe(width=80, height=48, samples=5, min_samples=1, bounces=1)

    def film(self, **more: Any) -> np.ndarray:
        priority = more.pop("priority", None)
        session = Session(
            load(room(), 1), self.recipe.model_copy(update=more), threads=2, priority=priority
        )
        while not session.done:
            session.step(0.003)
        return session.film.light

    def test_order_never_changes_the_picture(self) -> None:
        plain = self.film()
        np.testing.assert_array_equal(plain, self.film(order="tiles"))
        np.testing.assert_array_equal(plain, self.film(tile_size=24))
        np.testing.assert_array_equal(plain, self.film(priority=(70.0, 40.0)))

    def test_the_priority_point_is_ahead(self) -> None:
        session = Session(
            load(room(), 1),
            self.recipe.model_copy(update={"samples": 64}),
            threads=1,
            priority=(70.0, 40.0),
        )
        while session.film.samples.min() < 1:
            session.step(0.001)
        self.assertGreater(session.film.samples[40, 70], session.film.samples[0, 0])

    def test_tiles_start_in_the_middle_and_are_finished_one_by_one(self) -> None:
        session = Session(
            load(room(), 1),
            self.recipe.model_copy(update={"order": "tiles", "samples": 32}),
            threads=1,
        )
        session.step(1e-6)
        first = int(session.passes.argmax())
        x0, y0, x1, y1 = session.boxes[first]
        self.assertTrue(x0 <= 40 <= x1 and y0 <= 24 <= y1)
