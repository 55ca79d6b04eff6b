"""Textures: mip chains, sampling, where they sit on a surface, and the sampler's points."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np

from mill_lane.core.formats.pictures import encode
from mill_lane.core.image.srgb import from_linear, to_linear
from mill_lane.core.render.mip_chain import chain_values, levels
from mill_lane.core.render.sizes import image_bytes
from mill_lane.core.render.texture import DECODE, Textures, fill_chain, halve, texture_table
from mill_lane.core.scene.model import Image, Material, Texture, TextureUse
from mill_lane.demo.bakery import encoded
from tests.kernels import lookup, sampler
from tests.scenes import floor, picture, render, scene_of


def textures_of(
    pixels: np.ndarray, srgb: bool = False, wraps: tuple[int, int] = (0, 0)
) -> Textures:
    h, w, c = pixels.shape
    wide = int(pixels.dtype == np.uint16)
    out = np.empty(chain_values(w, h, c), pixels.dtype)
    fill_chain(out, pixels, srgb)
    table, chain = texture_table([(wide, 0, w, h, c, *wraps)])
    return Textures(
        table,
        chain,
        out if not wide else np.empty(0, np.uint8),
        out if wide else np.empty(0, np.uint16),
        DECODE,
    )


class TestChain(unittest.TestCase):
    def test_a_chain_is_four_thirds(self) -> None:
        for n in (64, 1024, 4096):
            self.assertAlmostEqual(chain_values(n, n, 3) / (n * n * 3), 4 / 3, delta=1e-3)

    def test_bytes_are_the_arrays_own(self) -> None:
        for channels, bits in ((1, 8), (3, 8), (4, 8), (3, 16)):
            image = picture(32, channels, bits)
            t = textures_of(np.zeros((32, 32, channels), np.uint8 if bits == 8 else np.uint16))
            self.assertEqual(image_bytes(image), t.narrow.nbytes + t.wide.nbytes)

    def test_odd_sizes(self) -> None:
        self.assertEqual(levels(5, 3), [(5, 3), (2, 1), (1, 1)])
        pixels = np.arange(5 * 3 * 3, dtype=np.uint8).reshape(3, 5, 3)
        np.testing.assert_array_equal(halve(pixels, False).shape, (1, 2, 3))

    def test_data_is_averaged_as_numbers(self) -> None:
        pixels = np.array([[[0], [100]], [[200], [100]]], np.uint8)
        self.assertEqual(halve(pixels, False)[0, 0, 0], 100)
        wide = np.array([[[0], [60000]], [[30000], [30000]]], np.uint16)
        self.assertEqual(halve(wide, False)[0, 0, 0], 30000)

    def test_colour_is_averaged_in_light(self) -> None:
        """Black and white average to half the light: sRGB code 188 (IEC 61966-2-1), not 128."""
        pixels = np.zeros((2, 2, 3), np.uint8)
        pixels[0] = 255
        self.assertEqual(
            halve(pixels, True)[0, 0, 0], round(float(from_linear(np.array(0.5))) * 255)
        )
        self.assertEqual(halve(pixels, True)[0, 0, 0], 188)

    def test_flat_colours_stay(self) -> None:
        for code in range(256):
            self.assertEqual(int(halve(np.full((2, 2, 3), code, np.uint8), True)[0, 0, 0]), code)


class TestLookup(unittest.TestCase):
    def test_texel_centres_and_between(self) -> None:
        pixels = np.array([[[10, 0, 0], [20, 0, 0]], [[30, 0, 0], [40, 0, 0]]], np.uint8)
        t = textures_of(pixels)
        self.assertAlmostEqual(lookup(t, 0, 0.25, 0.25, 0.0, False)[0] * 255, 10)
        self.assertAlmostEqual(lookup(t, 0, 0.75, 0.75, 0.0, False)[0] * 255, 40)
        self.assertAlmostEqual(lookup(t, 0, 0.5, 0.5, 0.0, False)[0] * 255, 25)

    def test_wrapping(self) -> None:
        pixels = np.arange(4, dtype=np.uint8).reshape(1, 4, 1) * 10
        at = 0.125  # the first texel's middle
        for wraps, moved, want in (
            (0, 1.0, 0),
            (1, 1.0, 30),
            (2, 1.5, 30),
            (0, -1.0, 0),
            (1, -0.25, 0),
            (2, -3.0, 0),
        ):
            self.assertAlmostEqual(
                lookup(textures_of(pixels, wraps=(wraps, 0)), 0, at + moved, 0.5, 0.0, False)[0]
                * 255,
                want,
                places=4,
            )

    def test_sixteen_bits_are_kept(self) -> None:
        pixels = np.array([[[12345]]], np.uint16)
        self.assertAlmostEqual(
            lookup(textures_of(pixels), 0, 0.5, 0.5, 0.0, False)[0], 12345 / 65535, places=12
        )

    def test_decoding(self) -> None:
        pixels = np.array([[[188, 188, 188]]], np.uint8)
        self.assertAlmostEqual(
            lookup(textures_of(pixels, True), 0, 0.5, 0.5, 0.0, True)[0],
            float(to_linear(np.array(188 / 255))),
            places=6,
        )

    def test_the_smallest_level_is_the_mean(self) -> None:
        pixels = np.random.default_rng(0).integers(0, 255, (64, 64, 1)).astype(np.uint8)
        self.assertAlmostEqual(
            lookup(textures_of(pixels), 0, 0.3, 0.9, 99.0, False)[0] * 255, pixels.mean(), delta=2
        )


def quarters() -> Image:
    """Red, green over blue, white: glTF's V runs down from the first row."""
    pixels = np.zeros((64, 64, 3), np.uint8)
    pixels[:32, :32], pixels[:32, 32:], pixels[32:, :32], pixels[32:] = (
        (255, 0, 0),
        (0, 255, 0),
        (0, 0, 255),
        pixels[32:],
    )
    pixels[32:, 32:] = 255
    return encoded("quarters", "image/png", 64, 3, 8, encode(pixels, "image/png"))


class TestOnASurface(unittest.TestCase):
    def colours(self, use: TextureUse) -> list[tuple[int, ...]]:
        """What stands in the four quarters of a square seen from above, its far side up."""
        m = Material("t", (1, 1, 1, 1), 0.0, 1.0, unlit=True, base_texture=use)
        scene = scene_of((floor(2.0), m), eye=(0, 3, 0), up=(0, 0, -1), yfov=2 * math.atan(1 / 3))
        scene = replace(scene, images=(quarters(),), textures=(Texture("quarters", 0),))
        p = render(scene, samples=4, size=32, bounces=0).layers()["beauty"]
        return [
            tuple(int(v > 0.5) for v in p[y, x]) for y, x in ((8, 8), (8, 24), (24, 8), (24, 24))
        ]

    red, green, blue, white = (1, 0, 0), (0, 1, 0), (0, 0, 1), (1, 1, 1)

    def test_upright(self) -> None:
        self.assertEqual(self.colours(TextureUse(0)), [self.red, self.green, self.blue, self.white])

    def test_offset(self) -> None:
        """KHR_texture_transform: an offset of a half moves to the next quarter."""
        self.assertEqual(
            self.colours(TextureUse(0, offset=(0.5, 0.0))),
            [self.green, self.red, self.white, self.blue],
        )

    def test_scale(self) -> None:
        self.assertEqual(self.colours(TextureUse(0, scale=(0.5, 0.5))), [self.red] * 4)

    def test_rotation(self) -> None:
        """A quarter turn by the extension's matrix (from memory):

        the place (u, v) shows what stands at (v, -u).
        """
        self.assertEqual(
            self.colours(TextureUse(0, rotation=math.pi / 2)),
            [self.blue, self.red, self.white, self.green],
        )

    def test_alpha_mask_and_blend(self) -> None:
        for mode, cutoff, want in (("MASK", 0.4, 1.0), ("MASK", 0.6, 0.0), ("BLEND", 0.5, 0.5)):
            m = Material(
                "a", (1, 1, 1, 0.5), 0.0, 1.0, unlit=True, alpha_mode=mode, alpha_cutoff=cutoff
            )  # type: ignore[arg-type]
            scene = scene_of((floor(2.0), m), eye=(0, 3, 0), up=(0, 0, -1), yfov=0.3)
            mean = float(render(scene, samples=256, size=16, bounces=0).layers()["beauty"].mean())
            self.assertAlmostEqual(mean, want, delta=0.01)


class TestSampler(unittest.TestCase):
    def test_every_power_of_two_is_stratified(self) -> None:
        """The first 2^2k points of each pair have one point in each of 2^k x 2^k squares (Sobol's
        (0, m, 2)-net).
        """
        for dimension in (0, 3, 17):
            for seed in (1, 99):
                s = sampler.pixel_seed(seed, 5, 7)
                points = np.array([sampler.pair(s, i, dimension) for i in range(256)])
                counts, _, _ = np.histogram2d(
                    points[:, 0], points[:, 1], bins=16, range=[[0, 1], [0, 1]]
                )
                self.assertTrue((counts == 1).all())

    def test_pixels_and_dimensions_differ(self) -> None:
        a = [sampler.pair(sampler.pixel_seed(1, 5, 7), i, 0) for i in range(64)]
        b = [sampler.pair(sampler.pixel_seed(1, 6, 7), i, 0) for i in range(64)]
        c = [sampler.pair(sampler.pixel_seed(1, 5, 7), i, 1) for i in range(64)]
        for other in (b, c):
            r = np.corrcoef(np.array(a)[:, 0], np.array(other)[:, 0])[0, 1]
            self.assertLess(abs(r), 0.5)
        self.assertTrue(all(0 <= x < 1 for p in a for x in p))
