"""Layers as pictures: an even ramp, and scales in real units."""

from __future__ import annotations

import unittest

import numpy as np
from skimage.color import rgb2lab

from mill_lane.core.image.maps import Show, layer_picture, ramp
from mill_lane.core.render.layers import show_of


def show(name: str) -> Show:
    found = show_of(name)
    assert found is not None
    return found


class TestRamp(unittest.TestCase):
    def test_lightness_rises_evenly(self) -> None:
        """CIE lightness from dark to light in even steps (scikit-image's rgb2lab)."""
        lab = rgb2lab(ramp(np.linspace(0, 1, 33))[None] / 255.0)[0]
        steps = np.diff(lab[:, 0])
        self.assertTrue((steps > 0).all())
        self.assertLess(float(steps.max() / steps.mean()), 1.5)
        self.assertGreater(float(lab[-1, 0] - lab[0, 0]), 70)

    def test_ends_are_held(self) -> None:
        np.testing.assert_array_equal(ramp(np.array([-5.0, 0.0])), ramp(np.array([0.0, -1.0])))
        np.testing.assert_array_equal(ramp(np.array([1.0, np.inf])), ramp(np.array([7.0, 1.0])))


class TestLayers(unittest.TestCase):
    def test_scales_are_round_and_real(self) -> None:
        plane = np.linspace(0, 0.173, 10_000).reshape(100, 100)
        picture, scale = layer_picture(plane, show("noise"))
        assert scale is not None
        self.assertEqual((scale.low, scale.high, scale.unit), (0.0, 20.0, "%"))
        self.assertEqual(picture.shape, (100, 100, 3))
        np.testing.assert_array_equal(picture[0, 0], ramp(np.array([0.0]))[0])

    def test_cost_is_time(self) -> None:
        """The cost map adds up to the thread time of the whole."""
        work = np.full((10, 10), 7.0)
        _, scale = layer_picture(work, show("work"), seconds=0.4)
        assert scale is not None
        self.assertEqual((scale.high, scale.unit), (5.0, "ms a pixel"))  # 4 ms a pixel, rounded up

    def test_numbers_without_an_end(self) -> None:
        picture, scale = layer_picture(np.array([[np.inf, 0.5], [np.nan, 0.1]]), show("noise"))
        assert scale is not None
        self.assertTrue(np.isfinite(scale.high))
        self.assertEqual(picture.dtype, np.uint8)

    def test_light_normals_and_objects_have_no_scale(self) -> None:
        light = np.full((4, 4, 3), 0.5, np.float32)
        for name in ("direct_diffuse", "albedo", "normal", "light lamp"):
            picture, scale = layer_picture(light, show(name))
            self.assertIsNone(scale)
            self.assertEqual(picture.shape, (4, 4, 3))
        objects, _ = layer_picture(np.array([[0.0, 1.0], [2.0, 2.0]]), show("object"))
        np.testing.assert_array_equal(objects[0, 0], [0x76] * 3)
        np.testing.assert_array_equal(objects[1, 0], objects[1, 1])
        self.assertFalse((objects[0, 1] == objects[1, 1]).all())
        self.assertIsNone(show_of("motion"))
