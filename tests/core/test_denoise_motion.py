"""How files tell motion: each usual way is found out, and the frames then come over as ours do."""

from __future__ import annotations

import itertools
import unittest

import numpy as np

from mill_lane.core.denoise.bringing import brought
from mill_lane.core.denoise.motion import OURS, convention
from tests.core.test_denoise_frames import HEIGHT, WIDTH, frame, ready

MOVED = (3.0, -2.0)


class TestConvention(unittest.TestCase):
    def pair(self) -> tuple[dict, dict]:
        return frame(2, moved=MOVED), frame(3, moved=MOVED)

    def test_each_way_is_found(self) -> None:
        """Read as it was found, the other frame comes over exactly."""
        sizes = ((1.0, 1.0), (float(WIDTH), float(HEIGHT)), (WIDTH / 2, HEIGHT / 2))
        for (a, b), (x, y) in itertools.product(itertools.product((1, -1), repeat=2), sizes):
            here, there = self.pair()
            way = np.asarray((a * x, b * y), np.float32)
            for layers in (here, there):
                layers["motion"] = layers["motion"] / way
            found = convention(here, there, HEIGHT)
            self.assertEqual(found.scale, (a * x, b * y))
            self.assertEqual(bool(found.notes), found.scale != OURS)
            for layers in (here, there):
                layers["motion"] = layers["motion"] * np.asarray(found.scale, np.float32)
            over = brought(here, there, ready(there), 1, 0)
            inside = over.there[8:-8, 8:-8]
            self.assertGreater(inside.mean(), 0.95)

    def test_noise_does_not_hide_it(self) -> None:
        here, there = self.pair()
        rng = np.random.default_rng(3)
        for layers in (here, there):
            layers["motion"] = -layers["motion"]
            layers["beauty"] = layers["beauty"] + rng.normal(0, 0.1, layers["beauty"].shape)
        self.assertEqual(convention(here, there, HEIGHT).scale, (-1.0, -1.0))

    def test_motion_that_fits_nothing_is_not_used(self) -> None:
        here, there = self.pair()
        rng = np.random.default_rng(5)
        here["motion"] = rng.uniform(-9, 9, here["motion"].shape).astype(np.float32)
        found = convention(here, there, HEIGHT)
        self.assertIsNone(found.scale)
        self.assertIn("not used", found.notes[0])

    def test_nothing_moves(self) -> None:
        here, there = frame(1), frame(2)
        self.assertEqual(convention(here, there, HEIGHT).scale, OURS)
        del here["motion"]
        self.assertEqual(convention(here, there, HEIGHT).scale, OURS)
