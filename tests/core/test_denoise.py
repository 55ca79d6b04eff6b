"""Noise taken out: known noise from known pictures, and what must not change."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage
from skimage.restoration import denoise_nl_means

from mill_lane.core.denoise.denoise import blended, denoise
from mill_lane.core.denoise.fireflies import calmed
from mill_lane.core.denoise.holding import error_against, samples_that_hold
from mill_lane.core.denoise.lost import lost_detail
from mill_lane.core.denoise.noisy import Facts, guessed_variance, noisy_of
from mill_lane.core.denoise.notes import Notes
from mill_lane.core.denoise.regression import Given, regressed
from mill_lane.core.errors import MillError

SIZE = (48, 64)


def scene(seed: int = 3) -> dict[str, np.ndarray]:
    """A picture of tiles under light that changes slowly, with its guides."""
    y, x = np.mgrid[: SIZE[0], : SIZE[1]].astype(np.float32)
    tiles = ((x // 8 + y // 8) % 2)[..., None]
    albedo = (0.4 + 0.5 * tiles * np.float32([1.0, 0.7, 0.4])).astype(np.float32)
    light = (0.8 + 0.2 * np.sin(x / 20) * np.cos(y / 15))[..., None].astype(np.float32)
    normal = np.zeros((*SIZE, 3), np.float32)
    normal[..., 2] = 1.0
    return {"truth": albedo * light, "albedo": albedo, "normal": normal, "depth": 2 + x / 64}


def noisy(sigma: float = 0.08, seed: int = 3, **more: Any) -> tuple[dict[str, Any], np.ndarray]:
    """Layers as a render gives them, with noise of known spread in either half, and the truth."""
    found = scene()
    truth = found.pop("truth")
    rng = np.random.default_rng(seed)
    halves = [
        (truth + rng.normal(0, sigma * 2**0.5, truth.shape)).clip(0).astype(np.float32)
        for _ in range(2)
    ]
    layers = found | {"beauty": (halves[0] + halves[1]) / 2}
    return layers | {"half_a": halves[0], "half_b": halves[1]} | more, truth


def rms(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.sqrt(np.mean((a - b) ** 2)))


class TestRegression(unittest.TestCase):
    def test_what_is_linear_in_the_guides_comes_back(self) -> None:
        """First-order regression's own property, whatever the weights; a constant stays one."""
        rng = np.random.default_rng(1)
        guides = rng.random((3, 24, 70)).astype(np.float32)
        mix = rng.random((3, 3)).astype(np.float32)
        values = np.einsum("cg,ghw->chw", mix, guides).astype(np.float32) + 0.5
        by = rng.random(values.shape).astype(np.float32)
        spread = np.full_like(by, 0.1)
        out = regressed(Given(values, by, spread, guides), 4)
        np.testing.assert_allclose(out, values, atol=2e-3)
        flat = regressed(Given(np.full_like(values, 0.7), by, spread, guides), 4)
        np.testing.assert_allclose(flat, 0.7, atol=1e-4)
        ramp = np.broadcast_to(np.linspace(0, 1, 70, dtype=np.float32), (1, 24, 70))
        alone = regressed(Given(np.repeat(ramp, 3, 0), by, spread, ramp.copy()), 4)
        np.testing.assert_allclose(alone[0, :, 4:-4], ramp[0, :, 4:-4], atol=1e-4)
        np.testing.assert_allclose(alone[0], ramp[0], atol=0.02)  # neighbours on one side alone

    def test_threads_give_the_same_bits(self) -> None:
        layers, _ = noisy()
        for mode in ("quality", "preview"):
            a, b = (denoise(layers, mode, radius=4, threads=n).picture for n in (1, 2))
            np.testing.assert_array_equal(a, b)

    def test_a_piece_is_as_the_whole(self) -> None:
        """Away from its edges, a tile of the picture comes out as within the whole of it."""
        rng = np.random.default_rng(2)
        values, by = (rng.random((3, 60, 150)).astype(np.float32) for _ in range(2))
        guides, spread = rng.random((2, 60, 150)).astype(np.float32), np.full_like(by, 0.05)
        whole = regressed(Given(values, by, spread, guides), 3)
        part = regressed(Given(*(x[:, :, 40:] for x in (values, by, spread, guides))), 3)
        np.testing.assert_allclose(part[:, :, 6:], whole[:, :, 46:], atol=1e-5)


class TestDenoise(unittest.TestCase):
    def test_known_noise_against_non_local_means(self) -> None:
        """More goes than scikit-image's non-local means takes from the same picture (Buades et al.
        2005), told the very spread of the noise.
        """
        for sigma in (0.03, 0.08):
            layers, truth = noisy(sigma)
            raw = layers["beauty"]
            theirs = denoise_nl_means(
                raw, patch_size=7, patch_distance=7, h=0.8 * sigma, sigma=sigma, channel_axis=2
            )
            ours = denoise(layers)
            self.assertLess(rms(ours.picture, truth), rms(theirs, truth))
            self.assertLess(rms(ours.picture, truth), 0.25 * rms(raw, truth))
            self.assertLess(abs(ours.light_change), 0.005)

    def test_textures_stay_sharp(self) -> None:
        """Along the borders of tiles it errs no more than twice as much as elsewhere."""
        layers, truth = noisy(0.08)
        apart = np.abs(denoise(layers).picture - truth).mean(2)
        edge = np.abs(np.diff(layers["albedo"][..., 0], axis=1, prepend=0)) > 0
        self.assertLess(apart[edge].mean(), 2 * apart[~edge].mean())

    def test_a_preview_and_fewer_guides(self) -> None:
        layers, truth = noisy(0.08)
        full, quick = denoise(layers), denoise(layers, "preview")
        bare = denoise({k: v for k, v in layers.items() if k != "albedo"})
        self.assertLess(rms(full.picture, truth), rms(quick.picture, truth))
        self.assertLess(rms(quick.picture, truth), 0.5 * rms(layers["beauty"], truth))
        self.assertIn("no albedo", bare.notes[0])
        self.assertLess(rms(bare.picture, truth), rms(layers["beauty"], truth))

    def test_without_halves(self) -> None:
        layers, truth = noisy(0.08)
        spread = np.full_like(truth, 0.08**2)
        one = {k: v for k, v in layers.items() if not k.startswith("half")}
        for more, word in (({}, "guessed"), ({"variance": spread}, "not told apart")):
            found = denoise(one | more)
            self.assertTrue(any(word in n for n in found.notes), found.notes)
            self.assertIsNone(found.halves)
            self.assertLess(rms(found.picture, truth), 0.6 * rms(layers["beauty"], truth))

    def test_one_sample_a_pixel(self) -> None:
        """The film's second half is black then: it says so, and no light is lost."""
        layers, _ = noisy(0.08)
        for share in (1.0, 0.3):
            rows = np.arange(SIZE[0]) % 10 < 10 * share
            rows[0] = share == 1.0  # the row that is looked at beforehand
            one = {k: v.copy() for k, v in layers.items()}
            one["half_a"][rows], one["half_b"][rows] = one["beauty"][rows], 0.0
            found = denoise(one)
            self.assertLess(abs(found.light_change), 0.02)
            told = any("at least two passes" in n for n in found.notes)
            self.assertEqual(told, share == 1.0)
            self.assertEqual(found.halves is None, share == 1.0)

    def test_a_guess_of_the_noise(self) -> None:
        rng = np.random.default_rng(4)
        plane = rng.normal(1.0, 0.3, (3, 64, 64)).astype(np.float32)
        self.assertAlmostEqual(float(guessed_variance(plane).mean()), 0.09, delta=0.01)

    def test_what_is_left_is_told_by_the_halves(self) -> None:
        """Half of the mean squared difference of the halves: the variance that is left in one."""
        layers, truth = noisy(0.08)
        found = denoise(layers)
        assert found.halves is not None
        left = np.mean((found.halves[0] - found.halves[1]) ** 2) / 4
        real = np.mean((found.picture - truth) ** 2)
        self.assertLess(left, 1.2 * real)  # what both halves get wrong alike it does not see
        self.assertGreater(left, 0.2 * real)


class TestLost(unittest.TestCase):
    def test_noise_is_no_detail(self) -> None:
        """Against the truth itself next to nothing is missed, whatever the noise."""
        for sigma in (0.03, 0.08):
            layers, truth = noisy(sigma)
            found = lost_detail(layers["half_a"], layers["half_b"], truth)
            self.assertLess((found.shown > 0).mean(), 0.02)
            self.assertLess(found.share, 0.2 * sigma)

    def test_detail_that_went_is_found_where_it_was(self) -> None:
        """A patch of stripes smoothed away: its size is told within a tenth, its place exactly."""
        layers, truth = noisy(0.03)
        stripes = np.zeros_like(truth)
        stripes[10:30, 20:44] = (0.1 * (-1.0) ** np.arange(24))[None, :, None]
        halves = [(layers[n] + stripes).astype(np.float32) for n in ("half_a", "half_b")]
        found = lost_detail(*halves, truth)
        bright = truth @ np.float32([0.2126, 0.7152, 0.0722])
        inside = (found.shown * ndimage.uniform_filter(bright, 7))[14:26, 24:40]
        self.assertAlmostEqual(float(np.median(inside)), 0.1, delta=0.015)
        (worst, *_) = found.worst(side=16)
        self.assertTrue(worst[0] >= 10 and worst[2] <= 54 and worst[3] <= 40, worst)
        self.assertEqual(lost_detail(*(truth, truth), truth).worst(), [])

    def test_the_denoiser_itself_takes_little(self) -> None:
        layers, _ = noisy(0.03)
        clean = denoise(layers).picture
        blunt = ndimage.uniform_filter(layers["beauty"], (9, 9, 1))
        ours, theirs = (
            lost_detail(layers["half_a"], layers["half_b"], x).share for x in (clean, blunt)
        )
        self.assertLess(ours, 0.1 * theirs)


class TestHolding(unittest.TestCase):
    def test_the_error_told_by_two_pictures_is_the_real_one(self) -> None:
        """Over 32 seeds: within a twentieth of the error against the truth, raw and denoised, and
        scattered as far as it says.
        """
        told, spreads, real = [], [], []
        for seed in range(32):
            layers, truth = noisy(0.08, seed)
            a, b = (noisy(0.08, 1000 + 2 * seed + k)[0]["beauty"] for k in range(2))
            clean = denoise(layers, radius=4).picture
            pictures = layers["beauty"], clean
            scale = truth**2 + 0.01
            found = [error_against(x, a, b, truth, layers["albedo"]) for x in pictures]
            told.append([f.value for f in found])
            spreads.append([f.spread for f in found])
            real.append([float(np.mean((x - truth) ** 2 / scale)) for x in pictures])
        ratio = np.mean(told, 0) / np.mean(real, 0)
        np.testing.assert_allclose(ratio[0], 1.0, atol=0.05)
        np.testing.assert_allclose(ratio[1], 1.0, atol=0.15)
        scatter = np.std(np.array(told) - np.array(real), axis=0) / np.mean(spreads, 0)
        self.assertLess(scatter.max(), 1.6)
        self.assertGreater(scatter[1], 0.5)

    def test_where_a_line_falls_under_the_target(self) -> None:
        """Error 1 / n: under 0.001 from a thousand on; the farther, the wider."""
        found = samples_that_hold([(8, 1 / 8), (16, 1 / 16), (32, 1 / 32)], 0.001)
        assert found is not None
        self.assertEqual((found.samples, round(found.slope, 3)), (1000, -1.0))
        near = samples_that_hold([(8, 1 / 8), (16, 1 / 16), (32, 1 / 32)], 1 / 30)
        assert near is not None
        self.assertIn(near.samples, (30, 31))
        self.assertGreater(found.high / found.samples, near.high / near.samples)
        self.assertIsNone(samples_that_hold([(8, 0.1)], 0.01))
        self.assertIsNone(samples_that_hold([(8, 0.1), (16, float("nan"))], 0.01))
        easy = samples_that_hold([(8, 1 / 8), (16, 1 / 16)], 0.9)
        assert easy is not None
        self.assertEqual((easy.low, easy.samples), (2, 2))  # with one, noise is not known
        flat = samples_that_hold([(8, 0.1), (16, 0.1)], 0.01)
        assert flat is not None
        self.assertGreater(flat.samples, 10**9)


class TestBadInput(unittest.TestCase):
    def test_values_that_are_no_colours(self) -> None:
        layers, truth = noisy(0.1)
        for k, bad in enumerate((np.nan, np.inf, -3.0, 1e30)):
            for name in ("beauty", "half_a"):
                layers[name][5 * k + 4, 20] = bad
        found = denoise(layers)
        self.assertTrue(np.isfinite(found.picture).all())
        self.assertTrue(any("were no colours" in n for n in found.notes))
        self.assertLess(rms(found.picture, truth), 0.1)

    def test_layers_that_do_not_fit(self) -> None:
        layers, _ = noisy()
        with self.assertRaisesRegex(MillError, "“albedo” is 64 x 40"):
            denoise(layers | {"albedo": layers["albedo"][:40]})
        small = {k: v[:1, :1] for k, v in layers.items()}
        with self.assertRaisesRegex(MillError, "too few to learn"):
            denoise(small)

    def test_a_sky_without_guides(self) -> None:
        """Where no ray meets a thing: no albedo, no normal, a depth without end."""
        layers, _ = noisy(0.1)
        for name, value in (("albedo", 0.0), ("normal", 0.0), ("depth", np.inf)):
            layers[name] = layers[name].copy()
            layers[name][:20] = value
        found = denoise(layers)
        self.assertTrue(np.isfinite(found.picture).all())
        facts = Facts(*SIZE, 3.0)
        self.assertTrue(np.isfinite(noisy_of(layers, facts, Notes()).guides).all())


class TestFireflies(unittest.TestCase):
    @settings(max_examples=20, deadline=None)
    @given(st.integers(0, 2**20), st.integers(0, 30))
    def test_no_light_is_lost(self, seed: int, dots: int) -> None:
        rng = np.random.default_rng(seed)
        picture = (0.5 + 0.1 * rng.random((20, 30, 3))).astype(np.float32)
        for _ in range(dots):
            picture[rng.integers(20), rng.integers(30)] *= rng.uniform(2, 500)
        found = calmed(picture)
        self.assertAlmostEqual(float(found.picture.sum()) / float(picture.sum()), 1.0, places=5)

    def test_a_dot_goes_and_a_line_stays(self) -> None:
        picture = np.full((21, 21, 3), 0.5, np.float32)
        picture[10, 10] = 100.0
        found = calmed(picture)
        self.assertEqual(found.count, 1)
        self.assertLess(float(found.picture[10, 10, 0]), 7.0)
        self.assertAlmostEqual(found.moved, 97.99 / (0.5 * 440 + 100), delta=0.02)
        line = np.full((21, 21, 3), 0.5, np.float32)
        line[10] = 100.0
        np.testing.assert_array_equal(calmed(line).picture, line)
        bright = np.full((31, 31, 3), 0.5, np.float32)
        bright[15, 15] = 40.0  # goes far enough that no neighbour is twice as bright by it
        around = np.delete(calmed(bright).picture[..., 0].ravel(), 15 * 31 + 15)
        self.assertLess(float(around.max()), 1.0)
        lamp = calmed(picture, other=picture)  # as bright in other samples
        np.testing.assert_array_equal(lamp.picture, picture)
        only = denoise({"beauty": picture}, "fireflies")
        np.testing.assert_allclose(only.picture, found.picture, rtol=1e-5)


class TestBlend(unittest.TestCase):
    def test_ends_and_mask_to_the_bit(self) -> None:
        rng = np.random.default_rng(6)
        raw, clean = (rng.random((9, 11, 3)).astype(np.float32) for _ in range(2))
        np.testing.assert_array_equal(blended(raw, clean, 0.0), raw)
        np.testing.assert_array_equal(blended(raw, clean, 1.0), clean)
        np.testing.assert_allclose(blended(raw, clean, 0.65), 0.35 * raw + 0.65 * clean, atol=1e-6)
        mask = (np.arange(11) > 4).astype(np.float32) * np.ones((9, 1), np.float32)
        mixed = blended(raw, clean, 1.0, mask)
        np.testing.assert_array_equal(mixed[:, :5], raw[:, :5])
        np.testing.assert_array_equal(mixed[:, 5:], clean[:, 5:])
