"""Frames before and after: brought over by motion, held against each other, less shimmer."""

from __future__ import annotations

import itertools
import unittest

import numpy as np

from mill_lane.core.denoise.bringing import brought, reach_of, seen_next, shimmer
from mill_lane.core.denoise.denoise import denoise
from mill_lane.core.denoise.noisy import Facts, Noisy, noisy_of
from mill_lane.core.denoise.notes import Notes

HEIGHT, WIDTH = 48, 64
FACTS = Facts(HEIGHT, WIDTH, 3.0)


def textured(y: np.ndarray, x: np.ndarray, wide: float = 1.0) -> np.ndarray:
    """A pattern without repetition, of any place; so many times as wide."""
    y, x = y / wide, x / wide
    waves = [np.sin(0.31 * x + 0.17 * y), np.cos(0.23 * x - 0.41 * y), np.sin(0.11 * x * y / 40)]
    return (0.5 + 0.15 * np.stack(waves, -1)).astype(np.float32)


def frame(
    number: int, turned: float = 0.0, moved: tuple[float, float] = (0.0, 0.0), wide: float = 1.0
) -> dict:
    """A frame of a pattern that turns about the middle and moves, `number` times as far."""
    y, x = np.mgrid[:HEIGHT, :WIDTH].astype(np.float64)
    cy, cx = (HEIGHT - 1) / 2, (WIDTH - 1) / 2

    def back(angle: float, times: float) -> tuple[np.ndarray, np.ndarray]:
        c, s = np.cos(angle), np.sin(angle)
        u, v = x - cx - times * moved[0], y - cy - times * moved[1]
        return -s * u + c * v, c * u + s * v

    py, px = back(turned * number, number)
    c, s = np.cos(turned * (number + 1)), np.sin(turned * (number + 1))
    nx = c * px - s * py + (number + 1) * moved[0] + cx
    ny = s * px + c * py + (number + 1) * moved[1] + cy
    motion = np.stack([nx - x, ny - y], -1).astype(np.float32)
    return {
        "beauty": textured(py, px, wide),
        "motion": motion,
        "depth": np.full((HEIGHT, WIDTH), 2.0, np.float32),
        "position": np.stack([px, py, 0 * px], -1).astype(np.float32) / 100,
    }


def ready(layers: dict) -> Noisy:
    return noisy_of(layers, FACTS, Notes())


class TestBringing(unittest.TestCase):
    def test_a_texture_that_moves_by_whole_pixels(self) -> None:
        """The next and the last frame come over exactly, but for what was outside."""
        for step in (1, -1):
            here, there = (frame(n, moved=(3.0, -2.0)) for n in (2, 2 + step))
            found = brought(here, there, ready(there), step, 0)
            kept = found.there > 0
            self.assertGreater(kept.mean(), 0.85)
            apart = np.abs(found.halves[0] - ready(here).halves[0])[:, kept]
            self.assertLess(float(apart.max()), 1e-4)
            outside = np.zeros((HEIGHT, WIDTH), bool)
            outside[:, -3 if step > 0 else 0 : None if step > 0 else 3] = True
            self.assertFalse(kept[outside].any())
            self.assertEqual(reach_of(here, Notes()), 3)

    def test_a_texture_that_turns(self) -> None:
        """To the nearest pixel: half a pixel off at most, and no more than its slope there."""
        for step in (1, -1):
            here, there = (frame(n, turned=0.05) for n in (1, 1 + step))
            found = brought(here, there, ready(there), step, 0)
            kept = found.there > 0
            self.assertGreater(kept.mean(), 0.8)
            apart = np.abs(found.halves[0] - ready(here).halves[0])[:, kept]
            still = np.abs(ready(there).halves[0] - ready(here).halves[0])[:, kept]
            self.assertLess(float(apart.mean()), 0.35 * float(still.mean()))

    def test_what_is_hidden_is_not_taken(self) -> None:
        """A thing that stands before the wall in the other frame alone: by its depth, its number or
        its place.
        """
        for change in ("depth", "object", "position"):
            here, there = frame(0), frame(1)
            for x in (here, there):
                if change == "object":
                    x["object"] = np.ones((HEIGHT, WIDTH), np.float32)
            there[change][10:20, 10:30] *= 0.5 if change != "position" else -4.0
            found = brought(here, there, ready(there), 1, 0)
            self.assertEqual(found.there[10:20, 10:30].max(), 0.0, change)
            self.assertEqual(found.there[25:, :].min(), 1.0, change)
            self.assertFalse(seen_next(here, there)[10:20, 10:30].any())

    def test_strips_reach_far_enough(self) -> None:
        layers, others = self.noisy_frames(0.08, moved=(1.0, 4.0))
        whole, parts = (
            denoise(layers, radius=3, beside=others, rows=rows).picture for rows in (1000, 32)
        )
        np.testing.assert_array_equal(whole, parts)

    def test_frames_that_do_not_count(self) -> None:
        """A preview says that it leaves them out, a frame without motion that it stands still."""
        layers, others = self.noisy_frames(0.08, moved=(0.0, 0.0))
        alone = denoise(layers, "preview")
        beside = denoise(layers, "preview", beside=others)
        np.testing.assert_array_equal(alone.picture, beside.picture)
        self.assertTrue(any("thoroughly alone" in n for n in beside.notes))
        still = {k: v for k, v in layers.items() if k != "motion"}
        found = denoise(still, radius=3, beside=others)
        self.assertTrue(any("no motion" in n for n in found.notes))
        self.assertLess(
            float(np.mean((found.picture - frame(1)["beauty"]) ** 2)),
            float(np.mean((denoise(still, radius=3).picture - frame(1)["beauty"]) ** 2)),
        )

    def test_what_moves_out_of_sight_by_far(self) -> None:
        """Motion that is no number, or goes beyond the picture, takes nothing along."""
        here, there = frame(0), frame(1)
        here["motion"] = here["motion"].copy()
        here["motion"][5] = (np.nan, np.inf)
        here["motion"][30] = (10_000.0, -10_000.0)
        found = brought(here, there, ready(there), 1, 0)
        self.assertEqual(found.there[30].max(), 0.0)
        self.assertTrue(np.isfinite(found.halves[0]).all())
        self.assertEqual(reach_of(here, Notes()), 256)

    @staticmethod
    def noisy_frames(
        sigma: float, moved: tuple[float, float], at: int = 1, wide: float = 1.0
    ) -> tuple[dict, list[tuple[int, dict]]]:
        frames = {}
        for n in (at - 1, at, at + 1):
            layers = frame(n, moved=moved, wide=wide)
            noise = np.random.default_rng(100 + n).normal(0, sigma, (2, HEIGHT, WIDTH, 3))
            a, b = ((layers["beauty"] + k).clip(0).astype(np.float32) for k in noise)
            frames[n] = layers | {"half_a": a, "half_b": b, "beauty": (a + b) / 2}
        return frames[at], [(-1, frames[at - 1]), (1, frames[at + 1])]


class TestShimmer(unittest.TestCase):
    def test_of_known_noise(self) -> None:
        """Frames of a still, even picture: the variance of their noise over its square."""
        rng = np.random.default_rng(5)
        frames = [(0.5 + rng.normal(0, 0.02, (40, 50, 3))).astype(np.float32) for _ in range(6)]
        still = np.zeros((40, 50, 2), np.float32)
        seen = np.ones((40, 50), bool)
        found = shimmer(frames, [still] * 5, [seen] * 5)
        self.assertAlmostEqual(found, 0.02**2 / 0.25, delta=0.05 * 0.02**2 / 0.25)
        self.assertEqual(shimmer([frames[0]] * 3, [still] * 2, [seen] * 2), 0.0)

    def test_frames_together_shimmer_a_third_as_much(self) -> None:
        """And are nearer to the truth, whether it stands still or moves."""
        for moved in ((0.0, 0.0), (2.0, 1.0)):
            alone, together, truth = [], [], []
            for at in (1, 2, 3):
                layers, others = TestBringing.noisy_frames(0.1, moved, at, 6.0)
                alone.append(denoise(layers).picture)
                together.append(denoise(layers, beside=others).picture)
                truth.append(frame(at, moved=moved, wide=6.0)["beauty"])
            frames = [frame(at, moved=moved) for at in (1, 2, 3)]
            motions = [f["motion"] for f in frames[:2]]
            seen = [seen_next(a, b) for a, b in itertools.pairwise(frames)]
            before, after = (shimmer(x, motions, seen) for x in (alone, together))
            self.assertLess(after, before / 3, moved)
            errors = [np.mean((np.array(x) - np.array(truth)) ** 2) for x in (alone, together)]
            self.assertLess(errors[1], 0.9 * errors[0], moved)
