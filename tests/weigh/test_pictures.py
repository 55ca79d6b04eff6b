"""What is known of textures' pictures: channels and bits that say nothing, and doubles."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from mill_lane.core.formats.pictures import encode
from mill_lane.core.scene.model import (
    Image,
)
from mill_lane.core.weigh.analysis import TextureRow
from mill_lane.core.weigh.images import inspect_image, used_bits, used_channels
from tests.scenes import picture


class TestPictures(unittest.TestCase):
    def test_channels(self) -> None:
        rng = np.random.default_rng(1)
        colour = rng.integers(0, 256, (32, 32, 4), dtype=np.uint8)
        solid = np.concatenate([colour[..., :3], np.full((32, 32, 1), 255, np.uint8)], 2)
        grey = np.repeat(colour[..., :1], 3, 2)
        for pixels, want in (
            (colour, 4),
            (solid, 3),
            (grey, 1),
            (np.concatenate([grey, colour[..., 3:]], 2), 2),
            (colour[..., :2], 2),
        ):
            self.assertEqual(used_channels(pixels)[0], want)
        almost = grey.copy()
        almost[17, 23, 1] ^= 1
        self.assertEqual((used_channels(almost)[0], used_channels(almost, near=3)[0]), (3, 1))

    def test_bits(self) -> None:
        low = np.random.default_rng(2).integers(0, 256, (40, 40, 1)).astype(np.uint16)
        self.assertEqual(
            [used_bits(x) for x in (low * 257, low * 256, low.astype(np.uint8))], [8, 8, 8]
        )
        one = low * 257
        one[39, 3] += 1
        self.assertEqual(used_bits(one), 16)

    def test_the_same_picture_twice(self) -> None:
        """Once as a PNG, once as another PNG of the same pixels:

        the files differ, the pixels do not.
        """
        a = picture(16)
        pixels = np.random.default_rng(3).integers(0, 255, (16, 16, 3)).astype(np.uint8)
        b = Image(
            "again", "image/png", 16, 16, 3, 8, 0, lambda: encode(pixels, "image/png") + b"\0"
        )
        self.assertEqual(inspect_image(a).digest, inspect_image(b).digest)
        self.assertNotEqual(inspect_image(a).digest, inspect_image(picture(8)).digest)

    def row(self, width: int, height: int, need: tuple[float, float] | None) -> TextureRow:
        return TextureRow(
            index=0,
            name="t",
            width=width,
            height=height,
            channels=3,
            bits=8,
            mime="image/png",
            file_bytes=1,
            memory_bytes=4 * width * height,
            role="base colour",
            nearest_m=1.0,
            in_view=True,
            missing=False,
            texel_need=need,
        )

    @given(st.integers(1, 14), st.integers(1, 14), st.floats(0.5, 9000), st.floats(0.5, 9000))
    @settings(max_examples=200)
    def test_halving_never_goes_below_the_need(self, w: int, h: int, a: float, b: float) -> None:
        row = self.row(2**w, 2**h, (a, b))
        n = row.halvings()
        if n:
            self.assertGreaterEqual(min((row.width >> n) / a, (row.height >> n) / b), 1)
        self.assertLess(min((row.width >> (n + 1)) / a, (row.height >> (n + 1)) / b), 1)
        self.assertGreaterEqual(row.wasted_bytes(), 0)
        self.assertEqual(self.row(2**w, 2**h, None).halvings(), 0)
