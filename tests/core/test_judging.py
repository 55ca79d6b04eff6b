"""Which of the raw and the clean picture is nearer to the truth, told by two halves."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
from scipy.ndimage import uniform_filter

from mill_lane.core.denoise.judging import Judge, errors_of
from mill_lane.core.denoise.strips import Strip
from mill_lane.core.denoise.verdict import Verdict

SIDE, NOISE = 96, 0.2


def relative(off: Any, bright: Any) -> float:
    return float((off**2 / (bright**2 + 0.01)).mean())


class TestVerdict(unittest.TestCase):
    def setUp(self) -> None:
        self.rng = np.random.default_rng(11)

    def halves(self, truth: Any) -> tuple[Any, Any]:
        a, b = (truth + self.rng.normal(0, NOISE, truth.shape) for _ in range(2))
        return a.astype(np.float32), b.astype(np.float32)

    def smooth(self, half: Any) -> Any:
        return uniform_filter(half, (5, 5, 1), mode="mirror")

    def strip(self, a: Any, b: Any) -> Strip:
        both = (self.smooth(a), self.smooth(b))
        layers = {"beauty": (a + b) / 2, "half_a": a, "half_b": b}
        return Strip(0, SIDE, layers, (both[0] + both[1]) / 2, both, 0.0, 0.0)

    def test_errors_are_told(self) -> None:
        """Within 10 % of the errors in the mean over independent pictures, smooth and fine.

        A filter that never looks at the pixel itself knows nothing of its noise, as weights that
        the other half tells.  What is left is the brightness, which is of the same samples.
        """
        y, x = np.mgrid[:SIDE, :SIDE]
        kernel = np.ones((3, 3), np.float32)
        kernel[1, 1] = 0
        kernel /= kernel.sum()
        for plane in (1 + x / SIDE, 1 + 0.5 * ((x + y) % 2)):
            truth = np.repeat(plane[..., None], 3, 2)
            apart = []
            for _ in range(24):
                a, b = self.halves(truth)
                c, d = (
                    sum(
                        kernel[j, i] * np.roll(h, (j - 1, i - 1), (0, 1))
                        for j in range(3)
                        for i in range(3)
                    )
                    for h in (a, b)
                )
                bright = np.maximum((a + b) / 2, (c + d) / 2)
                raw, clean, _ = errors_of(a, b, c, d)
                true = relative((a + b) / 2 - truth, bright), relative((c + d) / 2 - truth, bright)
                apart.append(
                    ((raw.mean() - true[0]) / true[0], (clean.mean() - true[1]) / sum(true))
                )
            mean = np.abs(np.mean(apart, axis=0))
            self.assertTrue((mean < 0.1).all(), mean)

    def test_smooth_light_is_better_clean(self) -> None:
        judge = Judge()
        judge.add(self.strip(*self.halves(np.full((SIDE, SIDE, 3), 1.0))))
        found = judge.verdict()
        assert found is not None
        self.assertTrue(found.better)
        self.assertLess(found.clean, found.raw / 10)

    def test_fine_detail_is_better_raw(self) -> None:
        y, x = np.mgrid[:SIDE, :SIDE]
        truth = np.repeat((1.0 + 0.9 * (-1.0) ** (x + y))[..., None], 3, 2)
        judge = Judge()
        judge.add(self.strip(*self.halves(truth)))
        found = judge.verdict()
        assert found is not None
        self.assertFalse(found.better)
        self.assertGreater(found.clean, found.raw)

    def test_the_share_with_the_smallest_error(self) -> None:
        """Of all blends with the clean picture, told without the truth and found with it."""
        y, x = np.mgrid[:SIDE, :SIDE]
        fine = (-1.0) ** (x + y)
        found = []
        for contrast in (0.0, 0.05, 0.1, 0.2, 0.9):
            truth = np.repeat((1.0 + contrast * fine)[..., None], 3, 2)
            a, b = self.halves(truth)
            raw, clean = (a + b) / 2, (self.smooth(a) + self.smooth(b)) / 2
            judge = Judge()
            judge.add(self.strip(a, b))
            verdict = judge.verdict()
            assert verdict is not None
            assert verdict.share is not None

            def error(s: float, clean: Any = clean, raw: Any = raw, truth: Any = truth) -> float:
                return float(((s * clean + (1 - s) * raw - truth) ** 2).mean())

            least = min(error(s) for s in np.linspace(0, 1, 101))
            self.assertLess(error(verdict.share), 1.05 * least)
            found.append(verdict.share)
        self.assertEqual(found, sorted(found, reverse=True))
        self.assertGreater(found[0] - found[-1], 0.8)
        self.assertIsNone(Verdict(raw=1.0, clean=0.5, spread=0.1).share)

    def test_without_halves_there_is_none(self) -> None:
        a, b = self.halves(np.ones((SIDE, SIDE, 3)))
        judge = Judge()
        judge.add(Strip(0, SIDE, {"beauty": a}, b, None, 0.0, 0.0))
        self.assertIsNone(judge.verdict())
