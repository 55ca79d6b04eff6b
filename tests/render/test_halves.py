"""Halves of the samples know nothing of each other: their difference is the noise of the mean."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Texture, TextureUse
from tests.scenes import WHITE, even_sky, floor, picture, scene_of

SEEDS = 32


class TestHalves(unittest.TestCase):
    def test_their_difference_is_the_noise(self) -> None:
        """Edges and a fine texture, where points of one sequence fill each other's gaps: the
        difference of two halves of it was four to seven times the variance of the mean.
        """
        ground = replace(WHITE, base_texture=TextureUse(0, scale=(9.0, 9.0)))
        scene = scene_of((floor(3.0), ground), environment=even_sky(), eye=(0, 1.0, 4))
        fine = picture(64, 3, 8, "fine")
        loaded = load(replace(scene, images=(fine,), textures=(Texture("fine", 0),)), 1)
        means, halves = [], []
        for seed in range(SEEDS):
            recipe = Recipe(
                width=32, height=18, samples=8, min_samples=8, layers=("half_buffers",), seed=seed
            )
            session = Session(loaded, recipe, threads=1, profiled=False)
            while not session.done:
                session.step(5)
            layers = session.layers()
            means.append(layers["beauty"].astype(float))
            halves.append(layers["half_a"].astype(float) - layers["half_b"])
            both = (layers["half_a"] + layers["half_b"]) / 2
            np.testing.assert_allclose(both, layers["beauty"], rtol=1e-4, atol=1e-5)
        true = np.var(means, axis=0, ddof=1).sum()
        told = (np.square(halves) / 4).mean(0).sum()
        self.assertAlmostEqual(told / true, 1.0, delta=0.12)
        # Neither half is brighter than the other.
        tilt = np.mean(halves, axis=0).mean(-1)
        spread = np.std(halves, axis=0).mean(-1) / np.sqrt(SEEDS)
        noisy = spread > 1e-4
        self.assertLess(np.abs(tilt[noisy] / spread[noisy]).mean(), 1.1)
