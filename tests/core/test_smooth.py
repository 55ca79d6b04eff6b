"""Smoothing for looks: noise goes, what is seen stays."""

from __future__ import annotations

import unittest

import numpy as np

from mill_lane.core.image.smooth import smoothed

SIZE = 64


class TestSmoothed(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(4)
        # Light of 0 or 4 where the mean is 1: what one sample in four meets.
        self.noisy = np.repeat(4.0 * (rng.random((SIZE, SIZE, 1)) < 0.25), 3, 2)
        self.albedo = np.full((SIZE, SIZE, 3), 0.5)
        self.normal = np.zeros((SIZE, SIZE, 3))
        self.normal[..., 2] = 1.0
        self.depth = np.full((SIZE, SIZE), 3.0)

    def test_noise_goes_and_the_mean_stays(self) -> None:
        out = smoothed(self.noisy * self.albedo, self.albedo, self.normal, self.depth, 1.0)
        before = (self.noisy * self.albedo)[8:-8, 8:-8]
        self.assertLess(out[8:-8, 8:-8].std(), 0.1 * before.std())
        # Dots are dimmed first, so that a little light goes.
        self.assertAlmostEqual(out.mean() / before.mean(), 0.95, delta=0.06)

    def test_colours_of_surfaces_stay_sharp(self) -> None:
        stripes = np.where(np.arange(SIZE) % 2 == 0, 0.2, 0.8)
        self.albedo[:] = stripes[None, :, None]
        out = smoothed(self.albedo, self.albedo, self.normal, self.depth, 4.0)
        np.testing.assert_allclose(out, self.albedo, rtol=1e-4)

    def test_light_does_not_cross_an_edge(self) -> None:
        """A lit wall beside a dark one that faces elsewhere; a near thing before a far one."""
        half = SIZE // 2
        for change in ("normal", "depth"):
            self.setUp()
            light = np.zeros((SIZE, SIZE, 3))
            light[:, half:] = 1.0
            if change == "normal":
                self.normal[:, half:] = (1.0, 0.0, 0.0)
            else:
                self.depth[:, half:] = 30.0
            out = smoothed(light, self.albedo, self.normal, self.depth, 1.0)
            self.assertLess(out[:, : half - 1].max(), 1e-3, change)
            self.assertGreater(out[:, half + 1 :].min(), 0.95, change)

    def test_what_is_no_number_spreads_to_nothing(self) -> None:
        light = self.albedo.copy()
        light[10, 10] = np.nan
        self.depth[20:30, 20:30] = np.inf
        out = smoothed(light, self.albedo, self.normal, self.depth, 1.0)
        self.assertTrue(np.isfinite(out).all())
        np.testing.assert_allclose(out[40:, 40:], 0.5, rtol=1e-4)
