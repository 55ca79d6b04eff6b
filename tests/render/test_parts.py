"""Parts of a scene, rendered one by one, add up to the whole."""

from __future__ import annotations

import unittest

import numpy as np

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.pose import ScenePart
from mill_lane.core.render.session import Session
from mill_lane.core.scene.surroundings import Environment
from mill_lane.demo import shapes
from tests.scenes import WHITE, scene_of, small_demo

LAYERS = ("albedo", "normal", "depth", "material", "object", "half_buffers", "components", "lights")
# Sums of the same float32 numbers in another order differ by about a last place for each.
ROUNDING = 1e-5


class TestParts(unittest.TestCase):
    def test_the_demo_adds_up(self) -> None:
        """With fog, glass, leaves and everything: layer by layer, but for rounding."""
        loaded = load(open_scene(small_demo()), 2)
        recipe = Recipe(width=80, height=45, samples=4, min_samples=4, bounces=3, layers=LAYERS)
        meshes = sorted({mesh for _, mesh in loaded.scene.instances})
        whole = Session(loaded, recipe, frame=3, threads=2)
        whole.step(600)
        before = None
        for k in range(3):
            part = ScenePart(frozenset(meshes[k::3]), rest=k == 0)
            session = Session(loaded, recipe, frame=3, threads=2, part=part)
            if before is not None:
                session.add_to(before)
            session.step(600)
            before = session
            if k < 2:  # none of them is all of it
                light = float(session.layers()["beauty"].mean())
                self.assertLess(light, 0.98 * float(whole.layers()["beauty"].mean()))
        assert before is not None
        np.testing.assert_array_equal(before.film.samples, whole.film.samples)
        added = before.layers()
        for name, plane in whole.layers().items():
            np.testing.assert_allclose(
                added[name], plane, rtol=ROUNDING, atol=ROUNDING, err_msg=name
            )

    def test_opaque_things_keep_their_bits(self) -> None:
        """Where a pixel has one of the parts alone nothing else is added; and what is hidden by
        another part stays hidden.
        """
        front = shapes.moved(shapes.ball(0.4, 12), (0.0, 0.0, 2.0))
        grey = Environment(zenith=(1, 1, 1), horizon=(1, 1, 1), ground=(1, 1, 1))
        scene = scene_of((front, WHITE), (shapes.ball(1.2, 12), WHITE), environment=grey)
        loaded = load(scene, 1)
        recipe = Recipe(width=32, height=32, samples=4, min_samples=4, layers=("object",))
        whole = Session(loaded, recipe, threads=1)
        whole.step(60)
        pictures = []
        for k in range(2):
            one = Session(loaded, recipe, threads=1, part=ScenePart(frozenset({k}), rest=k == 0))
            one.step(60)
            pictures.append(one.layers()["beauty"])
        lit = [(p > 0).any(-1) for p in pictures]
        alone = lit[1] & ~lit[0]
        self.assertTrue(alone.any())
        np.testing.assert_array_equal(pictures[1][alone], whole.layers()["beauty"][alone])
