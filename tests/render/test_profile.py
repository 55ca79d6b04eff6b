"""Profiles: work is exact, parts add up, and what-ifs come true."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.profile import USUAL, unit_costs
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Light, Material, Scene
from mill_lane.demo import shapes
from tests.scenes import disc, even_sky, floor, scene_of

GREY = Material("grey", (0.6, 0.6, 0.6, 1.0), 0.0, 0.5)
LAMP = Material("lamp", (0, 0, 0, 1), 0.0, 1.0, emissive=(2.0, 2.0, 2.0))


def room() -> Scene:
    """A floor and a ball under a large lamp and a small strong one."""
    small = np.eye(4)
    small[:3, 3] = (1.0, 1.5, 1.0)
    return scene_of(
        (floor(8.0), GREY),
        (shapes.moved(shapes.ball(0.6, 24), (0, 0.6, 0)), GREY),
        (disc(0.8, 24, 2.2, up=False), LAMP),
        eye=(0, 1.2, 5),
        at=(0, 0.5, 0),
        lights=((Light("spark", "point", intensity=2.0), small),),
    )


def session(scene: Scene, threads: int = 1, **more: Any) -> Session:
    values = {
        "width": 48,
        "height": 48,
        "samples": 32,
        "min_samples": 1,
        "bounces": 2,
        "layers": ("object",),
    } | more
    s = Session(load(scene, 1), Recipe(**values), threads=threads)
    while not s.done:
        s.step(0.02)
    return s


class TestWork(unittest.TestCase):
    def test_work_is_the_same_every_time_and_on_any_threads(self) -> None:
        one, two = session(room()), session(room(), threads=2)
        np.testing.assert_array_equal(one.work.counts, two.work.counts)

    def test_parts_add_up(self) -> None:
        p = session(room()).profile()
        self.assertAlmostEqual(sum(k.seconds for k in p.kinds), p.seconds, places=6)
        self.assertAlmostEqual(sum(k.seconds for k in p.components), p.seconds, places=6)
        self.assertAlmostEqual(sum(b.seconds for b in p.bounces), p.seconds, places=6)
        rays = {k.name: k.rays for k in p.kinds}
        self.assertEqual(rays["camera"], 48 * 48 * 32)
        self.assertEqual(sum(x.rays for x in p.lights), rays["shadow"])
        # Nodes and leaves tested inside objects are all that is tested but the nodes over the
        # objects.
        self.assertEqual(sum(o.leaves for o in p.objects), sum(k.leaves for k in p.kinds))
        self.assertLess(sum(o.nodes for o in p.objects), sum(k.nodes for k in p.kinds))
        self.assertEqual({o.name for o in p.objects}, {"thing 0", "thing 1", "thing 2"})

    def test_light_is_shared_out_to_lamps_and_bounces(self) -> None:
        p = session(room()).profile()
        self.assertAlmostEqual(sum(x.light or 0 for x in p.lights), 1.0, places=6)
        self.assertAlmostEqual(sum(b.light or 0 for b in p.bounces), 1.0, places=6)
        self.assertEqual({x.name for x in p.lights}, {"spark", "thing 2"})

    def test_without_a_profile_nothing_is_counted(self) -> None:
        s = Session(
            load(room(), 1),
            Recipe(width=16, height=16, samples=2, min_samples=1, layers=()),
            profiled=False,
        )
        while not s.done:
            s.step(1)
        self.assertEqual(int(s.work.counts.sum()), 0)
        self.assertEqual(s.rays_by_kind()["camera"], 512)

    def test_the_work_layer_adds_up_to_the_work(self) -> None:
        s = session(room(), layers=("work",))
        table = s.profile().kinds
        want = sum(k.nodes + k.leaves + 2 * k.reads + 8 * k.shadings for k in table)
        self.assertAlmostEqual(float(s.film["work"].sum(dtype=np.float64)) / want, 1.0, places=3)


class TestWhatIf(unittest.TestCase):
    def test_without_a_light(self) -> None:
        """The noise foretold for a render without a lamp, against that render."""
        base = session(room(), samples=128, light_sampling="all")
        answers = {a.text: a for a in base.profile().what_if}
        for lamp in ("spark", "thing 2"):
            foretold = answers[f"without {lamp}"].noise
            assert foretold is not None
            without = session(room(), samples=128, light_sampling="all", light_scales={lamp: 0.0})
            self.assertAlmostEqual(
                without.noise().rms / base.noise().rms / foretold, 1.0, delta=0.1, msg=lamp
            )
            self.assertLess(answers[f"without {lamp}"].time, 1.0)

    def test_the_only_lamp_is_not_advised_to_go(self) -> None:
        """A black picture has no noise, and is no answer."""
        scene = scene_of((floor(4.0), GREY), eye=(0, 2, 2), environment=even_sky())
        for sampling in ("all", "power"):
            p = session(scene, samples=8, light_sampling=sampling).profile()
            self.assertEqual([a.text for a in p.what_if if a.text.startswith("without sky")], [])

    def test_with_one_bounce_less(self) -> None:
        """Work is counted exactly, so that what a bounce less would save can be held against a
        render with one less.
        """
        base, less = session(room(), bounces=3), session(room(), bounces=2)
        answer = next(a for a in base.profile().what_if if a.text == "with one bounce less")
        work = [float(sum(k.nodes + k.leaves for k in s.profile().kinds)) for s in (base, less)]
        self.assertAlmostEqual(answer.time / (work[1] / work[0]), 1.0, delta=0.15)

    def test_without_an_objects_shading(self) -> None:
        answers = [
            a
            for a in session(room()).profile().what_if
            if a.text.startswith("without the shading of")
        ]
        self.assertTrue(answers)
        self.assertTrue(
            all(0 < a.time <= 1 and a.noise is not None and 0 <= a.noise <= 1 for a in answers)
        )

    def test_too_short_to_tell(self) -> None:
        """From one sample nothing is said about grain."""
        scene = scene_of((floor(4.0), GREY), eye=(0, 2, 2), environment=even_sky())
        p = session(scene, samples=1, light_sampling="all").profile()
        self.assertEqual([(x.name, x.light, x.noise) for x in p.lights], [("sky", None, None)])
        self.assertEqual([a.noise for a in p.what_if if a.text == "without sky"], [None])
        self.assertIsNotNone(session(scene, samples=8).profile().lights[0].noise)


class TestCosts(unittest.TestCase):
    def test_known_costs_are_found(self) -> None:
        rng = np.random.default_rng(0)
        costs = np.array([80.0, 20.0, 30.0, 0.0, 400.0]) * 1e-9
        work = rng.integers(1000, 100_000, (200, 5)).astype(float)
        # Exact seconds are met but for the pull to the usual ratios; noisy ones within their noise.
        for noise, within in ((0.0, 0.05), (0.02, 0.15)):
            seconds = work @ costs * rng.normal(1, noise, 200)
            got = unit_costs(work.T @ work, work.T @ seconds, len(work))
            np.testing.assert_allclose(got[[0, 1, 2, 4]], costs[[0, 1, 2, 4]], rtol=within)
            self.assertTrue((got >= 0).all())

    def test_with_little_to_go_by_the_usual_costs_are_used(self) -> None:
        np.testing.assert_array_equal(unit_costs(np.zeros((5, 5)), np.zeros(5), 0), USUAL * 1e-9)
