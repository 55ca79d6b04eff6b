"""The picture on the way, denoised quickly."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import numpy as np

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import read_pixels
from mill_lane.core.recipe import TRIAL_LAYERS, Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.session import Session
from mill_lane.work.stepping import write_clean_preview, write_preview
from tests.homes import small_demo


def roughness(pixels: np.ndarray) -> float:
    """How far neighbours are apart, in codes."""
    return float(np.abs(np.diff(pixels[..., :3].astype(int), axis=1)).mean())


class TestCleanPreview(unittest.TestCase):
    def test_smoother_and_the_render_as_it_was(self) -> None:
        loaded = load(open_scene(small_demo()), 1)
        recipe = Recipe(width=96, height=54, samples=4, min_samples=4, layers=TRIAL_LAYERS)
        with tempfile.TemporaryDirectory() as held:
            for region, smoother in (((0, 0, 96, 54), True), ((0, 0, 6, 6), False)):
                session = Session(loaded, recipe, region=region, threads=1)
                while not session.done:
                    session.step(1)
                before = session.film.light.copy()
                raw, clean = Path(held) / "raw.png", Path(held) / "clean.png"
                write_preview(session, raw)
                write_clean_preview(session, clean)
                np.testing.assert_array_equal(session.film.light, before)
                a, b = (read_pixels(p) for p in (raw, clean))
                if smoother:
                    self.assertLess(roughness(b), 0.8 * roughness(a))
                else:  # too small to learn from: shown as it is
                    np.testing.assert_array_equal(a, b)
