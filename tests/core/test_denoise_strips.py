"""Strips, masks, components and guides by choice: the same picture in other pieces."""

from __future__ import annotations

import unittest

import numpy as np
from scipy import ndimage

from mill_lane.core.denoise import masks
from mill_lane.core.denoise.components import component_strips
from mill_lane.core.denoise.denoise import denoise, source_of
from mill_lane.core.denoise.notes import Notes
from mill_lane.core.denoise.prefilter import box_mean, prefiltered
from mill_lane.core.denoise.strips import LEAST_ROWS, Settings
from mill_lane.core.errors import MillError
from tests.core.test_denoise import noisy, rms


def tall(sigma: float = 0.08) -> tuple[dict[str, np.ndarray], np.ndarray]:
    """Three of the pictures above each other, with guides that are noisy themselves."""
    found = [noisy(sigma, seed) for seed in (1, 2, 3)]
    layers = {name: np.concatenate([x[name] for x, _ in found]) for name in found[0][0]}
    rng = np.random.default_rng(7)
    layers["albedo"] = layers["albedo"] + rng.normal(0, 0.02, layers["albedo"].shape)
    layers["albedo_variance"] = np.full_like(layers["albedo"], 0.02**2)
    layers["half_a"][70, 20] = 90.0  # a bright dot beside a border of strips
    whole = {k: v.astype(np.float32) for k, v in layers.items()}
    return whole, np.concatenate([truth for _, truth in found])


class TestStrips(unittest.TestCase):
    def test_strips_are_as_the_whole(self) -> None:
        """To the bit, in every mode: margins hold all that a strip depends on."""
        layers, _ = tall()
        for mode in ("quality", "preview", "fireflies"):
            whole = denoise(layers, mode, rows=1000)
            parts = denoise(layers, mode, rows=LEAST_ROWS)
            np.testing.assert_array_equal(parts.picture, whole.picture)
            self.assertEqual(parts.fireflies, whole.fireflies)
            self.assertAlmostEqual(parts.light_change, whole.light_change, 9)
        self.assertEqual(whole.fireflies, 0)  # one of two halves has it: rounded down
        self.assertGreater(whole.moved, 1e-3)

    def test_progress_goes_up_and_may_stop_it(self) -> None:
        layers, _ = tall()
        told: list[float] = []
        denoise(layers, radius=3, rows=LEAST_ROWS, progress=told.append)
        self.assertEqual(told, sorted(told))
        self.assertAlmostEqual(told[-1], 1.0)

        def stop(_: float) -> None:
            raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            denoise(layers, radius=3, progress=stop)


class TestFilters(unittest.TestCase):
    def test_means_over_squares(self) -> None:
        """As SciPy's uniform filter, which sums on the way."""
        rng = np.random.default_rng(3)
        planes = rng.random((2, 20, 31)).astype(np.float32)
        for radius in (1, 3):
            theirs = ndimage.uniform_filter(planes, (0, 2 * radius + 1, 2 * radius + 1))
            np.testing.assert_allclose(box_mean(planes, radius), theirs, atol=1e-6)

    def test_noisy_guides_are_smoothed_and_sure_ones_kept(self) -> None:
        """Rousselle et al. 2013: noise of known variance goes, an edge far beyond it stays."""
        rng = np.random.default_rng(4)
        truth = np.zeros((3, 40, 60), np.float32)
        truth[:, :, 30:] = 0.8
        given = (truth + rng.normal(0, 0.05, truth.shape)).astype(np.float32)
        known = np.full_like(given, 0.05**2)
        out = prefiltered(given, known, (3,))
        self.assertLess(rms(out, truth), 0.4 * rms(given, truth))
        self.assertGreater(float((out[:, :, 30] - out[:, :, 29]).min()), 0.6)
        np.testing.assert_array_equal(prefiltered(given, 0 * known, (3,)), given)


class TestGuidesByChoice(unittest.TestCase):
    def test_a_guide_that_does_not_count(self) -> None:
        """Stripes that only the normals know: kept with them, smoothed without; a guide that
        counts nothing is as one that is not there.
        """
        layers, truth = noisy(0.15)
        y, _ = np.mgrid[:48, :64]
        lean = (0.5 * (-1.0) ** (y // 2)).astype(np.float32)
        layers["normal"][..., 0] = lean
        stripes = (0.15 * lean)[..., None]
        for name in ("beauty", "half_a", "half_b"):
            layers[name] = (layers[name] + stripes).astype(np.float32)
        truth = truth + stripes
        with_it = denoise(layers)
        without = denoise(layers, guides={"normal": 0.0})
        self.assertLess(rms(with_it.picture, truth), 0.8 * rms(without.picture, truth))
        bare = denoise({k: v for k, v in layers.items() if k != "normal"})
        np.testing.assert_array_equal(without.picture, bare.picture)


class TestMasks(unittest.TestCase):
    def test_each(self) -> None:
        ramp = np.repeat(np.float32([0.045, 0.09, 0.18, 0.36, 2.0])[None, :, None], 3, 2)
        np.testing.assert_allclose(masks.dark_parts(ramp)[0], [1, 1, 0.5, 0, 0], atol=1e-3)
        layers, truth = noisy(0.2)
        shares = masks.noisy_parts(layers["half_a"], layers["half_b"])
        self.assertGreater(shares.mean(), 0.8)
        self.assertEqual(masks.noisy_parts(truth, truth).max(), 0.0)
        numbers = np.float32([[0, 1, 2, np.nan]])
        np.testing.assert_array_equal(masks.chosen_objects(numbers, {1, 2}), [[0, 1, 1, 0]])
        everywhere, dark = (masks.named(name, ramp, None) for name in ("", "dark"))
        self.assertIsNone(everywhere)
        np.testing.assert_array_equal(dark, masks.dark_parts(ramp))
        with self.assertRaisesRegex(MillError, "no map"):
            masks.named("noise", ramp, None)
        with self.assertRaisesRegex(MillError, "no mask “bright”"):
            masks.named("bright", ramp, None)
        painted = np.uint8([[[255, 255, 255, 255], [255, 255, 255, 0], [0, 0, 0, 255]]])
        np.testing.assert_array_equal(masks.from_picture(painted), [[1, 0, 0]])


class TestComponents(unittest.TestCase):
    def test_one_is_cleaned_and_the_others_stay(self) -> None:
        layers, truth = noisy(0.06)
        rng = np.random.default_rng(9)
        gloss = (0.3 + rng.normal(0, 0.05, truth.shape)).clip(0).astype(np.float32)
        layers["indirect_diffuse"] = layers["beauty"]
        layers["indirect_specular"] = gloss
        layers["beauty"] = layers["beauty"] + gloss
        notes = Notes()

        def cleaned(*names: str) -> np.ndarray:
            strips = component_strips(source_of(layers), names, Settings(), notes)
            return np.concatenate([s.picture for s in strips])

        one = cleaned("indirect_diffuse")
        left = one - gloss  # the rest is raw to rounding
        self.assertLess(rms(left, truth), 0.6 * rms(layers["indirect_diffuse"], truth))
        both = cleaned("indirect_diffuse", "indirect_specular")
        self.assertLess(rms(both, truth + 0.3), 0.5 * rms(layers["beauty"], truth + 0.3))
        self.assertTrue(any("no halves" in n for n in notes.words()))
        layers["indirect_specular"][3, 4] = np.nan
        told, notes = notes, Notes()
        self.assertTrue(np.isfinite(cleaned("indirect_specular")).all())
        self.assertTrue(any("1 pixels" in n for n in notes.words()), notes.words())
        self.assertFalse(any("pixels" in n for n in told.words()))
        with self.assertRaisesRegex(MillError, "no layer “emission”"):
            cleaned("emission")
