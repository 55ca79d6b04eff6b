"""Sessions: the same bits however they are computed, and stopping when told."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.image.noise import relative_error
from mill_lane.core.recipe import Recipe, Region
from mill_lane.core.render.layers import LAYERS
from mill_lane.core.render.load import Loaded, load
from mill_lane.core.render.path_slots import COMPONENTS
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Geometry, Light, Material
from mill_lane.demo import shapes
from tests.scenes import WHITE, even_sky, floor, mean_luma, render, scene_of, small_demo

RECIPE = Recipe(width=64, height=36, samples=6, min_samples=2, bounces=3, layers=LAYERS.names)


class TestSession(unittest.TestCase):
    loaded: Loaded

    @classmethod
    def setUpClass(cls) -> None:
        cls.loaded = load(open_scene(small_demo()), 2)

    def session(
        self,
        recipe: Recipe = RECIPE,
        region: Region | None = None,
        threads: int = 1,
        key: str = "k",
    ) -> Session:
        return Session(self.loaded, recipe, region=region, frame=20, threads=threads, key=key)

    def finish(self, session: Session, step: float = 10.0) -> Session:
        while not session.done:
            session.step(step)
        return session

    def assertSameFilm(self, a: Session, b: Session) -> None:
        for name, plane in a.film.planes().items():
            np.testing.assert_array_equal(plane, b.film.planes()[name], err_msg=name)

    def test_threads_do_not_change_the_picture(self) -> None:
        self.assertSameFilm(
            self.finish(self.session(threads=1)), self.finish(self.session(threads=2))
        )

    def test_small_steps_do_not_change_the_picture(self) -> None:
        self.assertSameFilm(self.finish(self.session()), self.finish(self.session(), step=0.001))

    def test_seed_changes_the_picture(self) -> None:
        other = self.finish(self.session(RECIPE.model_copy(update={"seed": 2})))
        self.assertFalse(np.array_equal(other.film.light, self.finish(self.session()).film.light))

    def test_region_is_the_same_pixels(self) -> None:
        whole = self.finish(self.session())
        part = self.finish(self.session(region=(10, 5, 47, 30)))
        for name, plane in whole.film.planes().items():
            np.testing.assert_array_equal(
                plane[5:30, 10:47], part.film.planes()[name], err_msg=name
            )

    def test_resumed_is_uninterrupted(self) -> None:
        whole = self.finish(self.session())
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "state.npz"
            first = self.session()
            while first.index < 2 or len(set(first.passes)) == 1:
                first.step(1e-6)
            first.save(path)
            second = self.session()
            second.restore(path)
            np.testing.assert_array_equal(second.passes, first.passes)
            self.assertSameFilm(self.finish(second), whole)
            self.assertEqual(second.rays_by_kind(), whole.rays_by_kind())

    def test_state_of_another_render_is_refused(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "state.npz"
            self.session().save(path)
            with self.assertRaises(MillError):
                self.session(key="other").restore(path)

    def test_time_limit(self) -> None:
        limit = 1.0
        session = self.finish(
            self.session(
                Recipe(width=640, height=360, samples=4096, min_samples=1, time_limit=limit)
            ),
            step=0.1,
        )
        self.assertEqual(session.done, "time")
        # One piece of work beyond the limit at most; this machine may be busy, so a wide bound.
        self.assertLess(session.seconds, limit * 2)
        self.assertGreaterEqual(session.seconds, limit)

    def test_noise_threshold_stops_early_and_minimum_holds(self) -> None:
        sky = scene_of((floor(60.0), WHITE), environment=even_sky(), eye=(0, 2, 2))
        session = render(sky, samples=64, size=16, min_samples=8, noise=0.5, bounces=1)
        self.assertEqual(session.done, "noise")
        self.assertEqual(session.index, 8)
        never = render(sky, samples=12, size=16, min_samples=8, noise=1e-9, bounces=1)
        self.assertEqual((never.done, never.index), ("samples", 12))

    def test_layers(self) -> None:
        session = self.finish(self.session())
        layers = session.layers()
        lights = {f"light {name}" for name in session.world.lights.names}
        halves = {"half_a", "half_b"}
        variance = {"variance", "albedo_variance", "normal_variance", "depth_variance"}
        plain = {
            "beauty",
            "albedo",
            "normal",
            "depth",
            "position",
            "motion",
            "object",
            "samples",
            "noise",
            "work",
            "roughness",
            "metallic",
            "opacity",
        }
        self.assertEqual(set(layers), plain | halves | variance | set(COMPONENTS) | lights)
        self.assertTrue((layers["samples"] == RECIPE.samples).all())
        self.assertTrue(np.isfinite(layers["beauty"]).all() and (layers["beauty"] >= 0).all())
        length = np.linalg.norm(layers["normal"], axis=2)
        self.assertLessEqual(float(length.max()), 1.0001)
        self.assertGreater(float(layers["depth"].max()), 30.0)  # the houses across the street
        self.assertTrue((layers["work"] > 0).all())

    def test_components_and_lights_add_up_to_the_beauty(self) -> None:
        layers = self.finish(self.session()).layers()
        total = np.sum([layers[c] for c in COMPONENTS], axis=0)
        np.testing.assert_allclose(total, layers["beauty"], rtol=1e-4, atol=1e-6)
        by_lamp = np.sum([p for name, p in layers.items() if name.startswith("light ")], axis=0)
        np.testing.assert_allclose(by_lamp, layers["beauty"], rtol=1e-4, atol=1e-6)

    def test_halves_are_the_even_and_the_odd_samples(self) -> None:
        layers = self.finish(self.session()).layers()
        np.testing.assert_allclose(
            (layers["half_a"] + layers["half_b"]) / 2, layers["beauty"], rtol=1e-3, atol=1e-5
        )

    def test_layers_that_are_not_kept_take_nothing(self) -> None:
        session = self.session(RECIPE.model_copy(update={"layers": ()}))
        kept = {name for name, plane in session.film.planes().items() if plane.nbytes}
        self.assertEqual(kept, {"light", "luma", "samples", "active"})
        self.assertEqual(set(self.finish(session).layers()), {"beauty"})

    def test_clamp_takes_light_away_and_never_adds(self) -> None:
        free = mean_luma(self.finish(self.session()))[0]
        held = mean_luma(
            self.finish(self.session(RECIPE.model_copy(update={"radiance_limit_indirect": 0.05})))
        )[0]
        self.assertLess(held, free)


class TestNoise(unittest.TestCase):
    def test_estimate_against_independent_renders(self) -> None:
        """The noise read off one render against the spread over 32 renders with other seeds."""
        # Without rare bright paths: those are met too seldom for any estimate from one render .
        loaf = shapes.moved(shapes.ball(0.8, 32), (0, 0.8, 0))
        scene = scene_of(
            (floor(6.0), WHITE),
            (loaf, Material("crust", (0.6, 0.4, 0.2, 1), 0.0, 0.5)),
            eye=(0, 2, 5),
            environment=even_sky(),
        )
        loaded = load(scene, 1)
        recipe = Recipe(width=32, height=32, samples=16, min_samples=1, bounces=2, layers=())
        lumas, estimates = [], []
        for seed in range(32):
            session = Session(loaded, recipe.model_copy(update={"seed": seed}), threads=2, frame=1)
            while not session.done:
                session.step(10)
            lumas.append(session.film.luma[..., 0] / session.film.samples)
            estimates.append(session.noise().rms)
        spread = np.std(lumas, axis=0, ddof=1)
        # The same pooling as the estimate has: variance and mean over the window.
        n = 10_000.0
        mean = np.mean(lumas, axis=0)
        squares = (spread**2 * (n - 1) / n + mean**2) * n
        truth = relative_error(mean * n, squares, np.full(mean.shape, n)) * np.sqrt(n)
        want = float(np.sqrt(np.mean(truth**2)))
        # Scrambled Sobol points do better than the independent samples that the estimate assumes,
        # so it is an upper bound that must not be far off.
        got = float(np.median(estimates))
        self.assertLess(want, got * 1.35)
        self.assertGreater(want, got * 0.4)

    def test_error_falls_with_samples(self) -> None:
        """Slope of the error of the mean over samples: -1/2 or steeper (Owen 1997)."""
        scene = scene_of((floor(60.0), WHITE), environment=even_sky(), eye=(0, 2, 2), yfov=0.4)
        errors = []
        for samples in (4, 64):
            picture = render(scene, samples=samples, size=24, bounces=1).layers()["beauty"][..., 1]
            errors.append(float(np.std(picture)))
        self.assertLess(np.log(errors[1] / errors[0]) / np.log(16), -0.49)


class TestHardScenes(unittest.TestCase):
    def test_nothing_at_all(self) -> None:
        """A camera and a lamp in an empty world: black; under a sky: the sky."""
        lamp = (Light("p", "point"), np.eye(4))
        self.assertEqual(mean_luma(render(scene_of(lights=(lamp,)), samples=2))[0], 0.0)
        self.assertAlmostEqual(
            mean_luma(render(scene_of(environment=even_sky()), samples=2))[0], 1.0, places=6
        )

    def test_nothing_to_see_and_no_light(self) -> None:
        scene = scene_of((floor(0.001), WHITE), eye=(0, 5, 50), at=(0, 5, 0))
        self.assertEqual(mean_luma(render(scene, samples=2))[0], 0.0)

    def test_lamp_without_power_and_flat_triangles(self) -> None:
        g = floor(2.0)
        flat = Geometry(
            g.positions,
            g.normals,
            g.uvs,
            np.concatenate([g.triangles, [[0, 0, 1]], [[2, 2, 2]]]).astype(np.uint32),
        )
        scene = scene_of(
            (flat, WHITE),
            eye=(0, 2, 2),
            lights=((Light("dead", "point", intensity=0.0), np.eye(4)),),
            environment=even_sky(0.5),
        )
        mean = mean_luma(render(scene, samples=8))[0]
        self.assertTrue(0 < mean <= 0.51)

    def test_camera_inside_a_mesh(self) -> None:
        scene = scene_of((shapes.ball(1.0, 24), WHITE), eye=(0, 0, 0.1), environment=even_sky())
        self.assertEqual(mean_luma(render(scene, samples=2))[0], 0.0)  # no light comes in

    def test_placement_scaled_to_nothing(self) -> None:
        scene = scene_of(
            (floor(2.0), WHITE), (floor(1.0), WHITE), environment=even_sky(), eye=(0, 2, 2)
        )
        nodes = list(scene.nodes)
        nodes[1] = replace(nodes[1], scale=(0.0, 0.0, 0.0))
        self.assertGreater(mean_luma(render(replace(scene, nodes=tuple(nodes)), samples=2))[0], 0.0)
