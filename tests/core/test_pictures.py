"""Colour, metrics and picture files against their standards and reference libraries."""

from __future__ import annotations

import io
import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image as Pillow

from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import decode, encode, read_header
from mill_lane.core.image.compare import psnr, relative_mse, rmse, ssim
from mill_lane.core.image.noise import (
    BAND,
    WINDOW,
    Noise,
    by_bands,
    error_of_one,
    error_of_two,
    pool,
    relative_error,
    summarise,
)
from mill_lane.core.image.srgb import from_linear, luminance, to_linear, view
from mill_lane.core.recipe import DRAFT, FINAL, Recipe, clip_region


class TestSRGB(unittest.TestCase):
    """IEC 61966-2-1."""

    def test_worked_values(self) -> None:
        # The two pieces meet at linear 0.0031308 / code 0.04045; code 0.5 is 0.21404 and middle
        # grey 0.18 is code 0.4614.
        for code, linear in (
            (0.0, 0.0),
            (1.0, 1.0),
            (0.04045, 0.0031308),
            (0.5, 0.21404114),
            (0.4613561, 0.18),
        ):
            self.assertAlmostEqual(float(to_linear(np.array(code))), linear, places=6)
            self.assertAlmostEqual(float(from_linear(np.array(linear))), code, places=5)

    @given(st.floats(0, 1))
    def test_there_and_back(self, x: float) -> None:
        self.assertAlmostEqual(float(to_linear(from_linear(np.array(x)))), x, places=6)

    def test_weights(self) -> None:
        """ITU-R BT.709-6, item 3.2: 0.2126, 0.7152, 0.0722."""
        np.testing.assert_allclose(luminance(np.eye(3)), [0.2126, 0.7152, 0.0722])

    def test_view(self) -> None:
        light = np.array([[[0.0, 0.18, 1.0], [4.0, np.nan, -1.0]]])
        np.testing.assert_array_equal(view(light), [[[0, 118, 255], [255, 0, 0]]])
        np.testing.assert_array_equal(view(light, exposure=-2.0)[0, 1, 0], 255)
        self.assertEqual(view(np.array([0.25]), exposure=1.0)[0], view(np.array([0.5]))[0])


class TestMetrics(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(0)
        self.a = rng.random((40, 50, 3))
        self.b = np.clip(self.a + rng.normal(size=self.a.shape) * 0.1, 0, 1)

    def test_closed_forms(self) -> None:
        """Two even pictures a and b: RMSE |a - b|, PSNR -20 log10 |a - b| at a peak of 1, and SSIM
        (2 a b + C1) / (a^2 + b^2 + C1) with C1 = 0.01^2 (Wang et al. 2004, equations 6 and 13: no
        variance, so that the contrast term is 1); relative error (a - b)^2 / (b^2 + 0.01).
        """
        for a, b in ((0.5, 0.4), (0.9, 0.1), (0.25, 0.26)):
            x, y = np.full((9, 12, 3), a), np.full((9, 12, 3), b)
            self.assertAlmostEqual(rmse(x, y), abs(a - b), places=12)
            self.assertAlmostEqual(psnr(x, y), -20 * math.log10(abs(a - b)), places=9)
            self.assertAlmostEqual(relative_mse(x, y), (a - b) ** 2 / (b * b + 0.01), places=12)
            want = (2 * a * b + 1e-4) / (a * a + b * b + 1e-4)
            self.assertAlmostEqual(ssim(x, y), want, places=9)
            self.assertAlmostEqual(ssim(x[..., 0], y[..., 0]), want, places=9)

    def test_noise_of_a_known_size(self) -> None:
        """Noise of standard deviation s gives an RMSE of s, and PSNR falls by 6.02 dB as s
        doubles.
        """
        noise = np.random.default_rng(1).normal(size=(200, 200))
        flat = np.full((200, 200), 0.5)
        self.assertAlmostEqual(rmse(flat + 0.1 * noise, flat), 0.1, delta=0.001)
        halves = psnr(flat + 0.05 * noise, flat) - psnr(flat + 0.1 * noise, flat)
        self.assertAlmostEqual(halves, 20 * math.log10(2), places=9)
        self.assertGreater(ssim(flat + 0.01 * noise, flat), ssim(flat + 0.1 * noise, flat))

    def test_equal_pictures(self) -> None:
        self.assertEqual(
            (rmse(self.a, self.a), relative_mse(self.a, self.a), psnr(self.a, self.a)),
            (0.0, 0.0, float("inf")),
        )
        self.assertAlmostEqual(ssim(self.a, self.a), 1.0, places=12)

    def test_other_sizes_are_refused(self) -> None:
        with self.assertRaises(MillError):
            rmse(self.a, self.b[1:])


class TestNoiseMap(unittest.TestCase):
    def test_pooling_is_a_mean_over_what_there_is(self) -> None:
        plane = np.random.default_rng(1).random((12, 15))
        want = np.array(
            [
                [plane[max(0, y - 4) : y + 5, max(0, x - 4) : x + 5].mean() for x in range(15)]
                for y in range(12)
            ]
        )
        np.testing.assert_allclose(pool(plane), want)

    def test_known_sigma(self) -> None:
        """Independent samples of known spread: sigma / (sqrt(n) (mean + 0.05))."""
        rng = np.random.default_rng(2)
        n, mean, sigma = 64, 0.5, 0.2
        x = rng.normal(mean, sigma, (n, 60, 60))
        error = relative_error(x.sum(0), (x * x).sum(0), np.full((60, 60), n))
        self.assertAlmostEqual(summarise(error).rms / (sigma / 8 / 0.55), 1.0, delta=0.02)

    def test_two_pictures_and_one(self) -> None:
        """Normal noise of a known spread on a slope; Immerkær's mask leaves the slope out."""
        rng = np.random.default_rng(4)
        slope = 0.3 + 0.4 * np.linspace(0, 1, 120)[None, :] + np.zeros((90, 1))
        for spread in (0.01, 0.1):
            a, b = (slope + spread * rng.standard_normal(slope.shape) for _ in range(2))
            wanted = summarise(spread / (slope + 0.05)).rms
            self.assertAlmostEqual(summarise(error_of_two(a, b)).rms / wanted, 1.0, delta=0.05)
            self.assertAlmostEqual(summarise(error_of_one(a)).rms / wanted, 1.0, delta=0.05)
        self.assertLess(summarise(error_of_one(slope)).rms, 1e-3)

    def test_by_bands_it_is_the_same(self) -> None:
        """Whatever the height, with as many rows more as a pixel's noise depends on."""
        rng = np.random.default_rng(6)
        for height in (9, BAND, 2 * BAND + 7):
            a, b = (rng.random((height, 20)) for _ in range(2))
            whole = error_of_one(a)
            banded = by_bands(error_of_one, a, halo=WINDOW // 2 + 1)
            np.testing.assert_allclose(banded, whole, rtol=1e-5)
            np.testing.assert_allclose(by_bands(error_of_two, a, b), error_of_two(a, b), rtol=1e-5)
        short = by_bands(error_of_one, a, halo=WINDOW // 2 - 1)
        self.assertGreater(np.abs(short / whole - 1).max(), 1e-3)

    def test_no_estimate_from_one_sample(self) -> None:
        one = np.ones((4, 4))
        self.assertEqual(
            summarise(relative_error(one, one, one)), Noise(float("inf"), float("inf"))
        )


class TestPictureFiles(unittest.TestCase):
    def test_headers_and_pixels_agree_with_pillow(self) -> None:
        rng = np.random.default_rng(3)
        for channels, mode in ((1, "L"), (3, "RGB"), (4, "RGBA")):
            pixels = rng.integers(0, 255, (9, 13, channels)).astype(np.uint8)
            data = encode(pixels, "image/png")
            theirs = Pillow.open(io.BytesIO(data))
            self.assertEqual((theirs.size, theirs.mode), ((13, 9), mode))
            np.testing.assert_array_equal(np.asarray(theirs).reshape(pixels.shape), pixels)
            h = read_header(data, "x")
            self.assertEqual((h.width, h.height, h.channels, h.bits), (13, 9, channels, 8))
            np.testing.assert_array_equal(decode(data, h.mime), pixels)

    def test_jpeg(self) -> None:
        y, x = np.mgrid[0:32, 0:48]
        pixels = np.stack([x * 5, y * 7, x + y], -1).astype(np.uint8)
        data = encode(pixels, "image/jpeg")
        h = read_header(data, "x")
        self.assertEqual(
            (h.mime, h.width, h.height, h.channels, h.bits), ("image/jpeg", 48, 32, 3, 8)
        )
        self.assertLess(rmse(decode(data, h.mime), pixels), 3.0)

    def test_colour_under_clear_alpha_is_kept(self) -> None:
        pixels = np.full((4, 4, 4), 200, np.uint8)
        pixels[..., 3] = 0
        np.testing.assert_array_equal(decode(encode(pixels, "image/png"), "image/png"), pixels)

    def test_palettes_become_colour(self) -> None:
        out = io.BytesIO()
        Pillow.new("P", (5, 5), 3).save(out, "PNG")
        h = read_header(out.getvalue(), "p")
        self.assertEqual(decode(out.getvalue(), h.mime).shape, (5, 5, h.channels))


class TestRecipe(unittest.TestCase):
    def test_the_typical_pair(self) -> None:
        """Common practice: 540 px with 2 bounces against 1080 px with 4."""
        self.assertEqual(
            (DRAFT.height, DRAFT.bounces, FINAL.height, FINAL.bounces), (540, 2, 1080, 4)
        )
        self.assertEqual(DRAFT.width * FINAL.height, FINAL.width * DRAFT.height)

    def test_json_there_and_back(self) -> None:
        self.assertEqual(Recipe.model_validate_json(FINAL.model_dump_json()), FINAL)

    def test_frozen_and_checked(self) -> None:
        with self.assertRaises(ValueError):
            FINAL.width = 5  # type: ignore[misc]
        with self.assertRaises(ValueError):
            Recipe(samples=4, min_samples=8)
        with self.assertRaises(ValueError):
            Recipe(samplez=4)  # type: ignore[call-arg]

    def test_changes(self) -> None:
        self.assertEqual(FINAL.changed_from(FINAL), {})
        self.assertEqual(
            FINAL.model_copy(update={"bounces": 3}).changed_from(FINAL), {"bounces": (4, 3)}
        )

    @settings(max_examples=200)
    @given(st.tuples(*[st.integers(-50, 150)] * 4))
    def test_regions_stay_inside(self, region: tuple[int, int, int, int]) -> None:
        try:
            x0, y0, x1, y1 = clip_region(region, 100, 60)
        except ValueError:
            return
        self.assertTrue(0 <= x0 < x1 <= 100 and 0 <= y0 < y1 <= 60)
