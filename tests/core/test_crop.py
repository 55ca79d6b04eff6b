"""The same crop from a draft and a final picture, through every size."""

from __future__ import annotations

import unittest

import numpy as np

from mill_lane.core.crop import crop_of, crop_text, pixels_of, shares_of
from mill_lane.core.errors import MillError

SIZES = ((480, 270), (960, 540), (1920, 1080), (853, 480), (37, 11), (3840, 2160), (720, 486))


class TestCrop(unittest.TestCase):
    def test_the_same_part_in_every_size(self) -> None:
        """Its edges are within half a pixel of the size at hand, whatever sizes came before."""
        rng = np.random.default_rng(8)
        for _ in range(300):
            x, y = np.sort(rng.uniform(0, 1, 2)), np.sort(rng.uniform(0, 1, 2))
            crop = (x[0], y[0], x[1], y[1])
            for width, height in SIZES:
                again = crop_of(crop_text(crop))
                region = pixels_of(again, width, height)
                self.assertTrue(0 <= region[0] < region[2] <= width)
                self.assertTrue(0 <= region[1] < region[3] <= height)
                for k, (edge, size) in enumerate(zip(crop, (width, height) * 2, strict=True)):
                    grown = 1.0 if min(region[2] - region[0], region[3] - region[1]) == 1 else 0.5
                    self.assertLessEqual(abs(region[k] - edge * size), grown + 0.01)

    def test_pixels_there_and_back(self) -> None:
        """A crop that was drawn to the pixel stays what it was, written into an address."""
        rng = np.random.default_rng(9)
        for width, height in SIZES:
            for _ in range(100):
                x = np.sort(rng.choice(width + 1, 2, replace=False))
                y = np.sort(rng.choice(height + 1, 2, replace=False))
                region = (int(x[0]), int(y[0]), int(x[1]), int(y[1]))
                text = crop_text(shares_of(region, width, height))
                self.assertEqual(pixels_of(crop_of(text), width, height), region)

    def test_words(self) -> None:
        self.assertIsNone(crop_of(" "))
        self.assertEqual(crop_text(None), "")
        self.assertEqual(crop_text((0, 0, 1, 1)), "")
        self.assertEqual(crop_of("25%, 10%, 50%, 40%"), (0.25, 0.1, 0.5, 0.4))
        self.assertEqual(crop_of("0.5,0.4,0.25,0.1"), (0.25, 0.1, 0.5, 0.4))  # drawn upwards
        self.assertEqual(crop_of("-1,0.5,0.5,9"), (0.0, 0.5, 0.5, 1.0))
        self.assertEqual(pixels_of(None, 1920, 1080), (0, 0, 1920, 1080))
        self.assertEqual(pixels_of((0.999999, 0, 1, 1e-7), 10, 10), (9, 0, 10, 1))
        for text in ("1,2", "a,b,c,d", "nan,0,1,1", "2,2,3,3", "0.5,0,0.5,1", "inf,0,0.1,1"):
            with self.assertRaises(MillError, msg=text):
                crop_of(text)
