"""Memory profiles of other renderers fitted to their trials, and what-ifs of the ledger."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import nnls

from mill_lane.core.devices.memory_profile import UNITS, Load, Logged, MemoryProfile, fit, predicted
from mill_lane.core.devices.model import DEMO_CARD, GB, Device
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.least_squares import nonnegative
from mill_lane.core.recipe import FINAL
from mill_lane.core.weigh.measure import weigh
from mill_lane.core.weigh.what_if import WhatIf, load_of, reckon
from tests.scenes import small_demo

CPU = Device(name="cpu", kind="cpu", memory_bytes=10**10, threads=2)
TRUE = MemoryProfile(
    name="elsewhere",
    fixed=0.8e9,
    triangle=150.0,
    value8=1.4,
    value16=3.0,
    pixel=20.0,
    sample=300.0,
    denoise=90.0,
)


def trials(n: int, seed: int, noise: float = 0.0) -> list[Logged]:
    rng = np.random.default_rng(seed)
    out = []
    for _ in range(n):
        load = Load(
            triangles=rng.uniform(1e5, 2e7),
            values8=rng.uniform(0, 3e9),
            values16=rng.uniform(0, 5e8),
            pixels=rng.uniform(1e6, 3e7),
            samples=rng.uniform(1e5, 4e6),
            denoised=rng.choice([0, 2e6]),
        )
        peak = predicted(TRUE, load) * (1 + noise * rng.standard_normal())
        out.append(Logged(load=load, peak_bytes=peak))
    return out


class TestLeastSquares(unittest.TestCase):
    @given(st.integers(0, 10_000), st.integers(1, 6))
    @settings(max_examples=60)
    def test_against_scipy(self, seed: int, n: int) -> None:
        rng = np.random.default_rng(seed)
        rows, goal = rng.normal(size=(n + 3, n)), rng.normal(size=n + 3)
        found = nonnegative(rows.T @ rows, rows.T @ goal)
        want, _ = nnls(rows, goal)
        np.testing.assert_allclose(found, want, atol=1e-6)

    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 2**32 - 1), st.integers(1, 12))
    def test_the_conditions_of_an_optimum(self, seed: int, n: int) -> None:
        """Karush, Kuhn and Tucker: nothing below 0, no slope downwards, none where x is above 0."""
        rng = np.random.default_rng(seed)
        rows = rng.normal(size=(n + 3, n))
        a, b = rows.T @ rows, rows.T @ rng.normal(size=n + 3)
        x = nonnegative(a, b)
        slope = a @ x - b
        self.assertGreaterEqual(x.min(), 0)
        self.assertGreater(slope.min(), -1e-7)
        np.testing.assert_allclose(slope * x, 0, atol=1e-7)

    def test_what_nothing_is_known_of(self) -> None:
        np.testing.assert_array_equal(nonnegative(np.zeros((3, 3)), np.zeros(3)), np.zeros(3))


class TestProfiles(unittest.TestCase):
    def test_exact_trials_give_the_figures_back(self) -> None:
        found = fit(MemoryProfile(name="elsewhere"), trials(30, 1))
        for unit in UNITS:
            self.assertAlmostEqual(
                getattr(found.profile, unit) / getattr(TRUE, unit), 1, delta=0.02, msg=unit
            )
        self.assertEqual(set(found.decided), set(UNITS))
        self.assertLess(found.rms, 2e7)

    def test_noisy_trials_predict_new_ones(self) -> None:
        found = fit(MemoryProfile(name="elsewhere"), trials(24, 2, noise=0.02))
        for t in trials(20, 3):
            self.assertAlmostEqual(predicted(found.profile, t.load) / t.peak_bytes, 1, delta=0.05)

    def test_one_trial_moves_little_and_says_so(self) -> None:
        """One equation for six figures:

        it is met, nothing counts as decided, and a figure that it lacks is left.
        """
        own = MemoryProfile(name="elsewhere")
        one = Logged(load=Load(triangles=1e7, values8=1e9), peak_bytes=5e9)
        found = fit(own, [one])
        self.assertAlmostEqual(found.residuals[0] / one.peak_bytes, 0, delta=0.01)
        self.assertEqual(found.decided, ())
        self.assertEqual((found.profile.sample, found.profile.value16), (own.sample, own.value16))
        with self.assertRaises(ValueError):
            fit(own, [])

    @given(st.integers(0, 1000), st.integers(1, 12))
    @settings(max_examples=40, deadline=None)
    def test_never_below_nothing(self, seed: int, n: int) -> None:
        """Peaks that have nothing to do with what was held."""
        rng = np.random.default_rng(seed)
        wild = [
            t.model_copy(update={"peak_bytes": float(rng.uniform(1e8, 2e10))})
            for t in trials(n, seed)
        ]
        found = fit(MemoryProfile(name="x"), wild)
        self.assertTrue(all(getattr(found.profile, u) >= 0 for u in UNITS))
        self.assertEqual(len(found.residuals), n)


class TestWhatIf(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.analysis = weigh(open_scene(small_demo()))

    def total(
        self, asked: WhatIf, device: Device = DEMO_CARD, profile: MemoryProfile | None = None
    ) -> int:
        return reckon(self.analysis, FINAL, device, asked, profile)[0].total

    def test_nothing_asked_changes_nothing(self) -> None:
        from mill_lane.core.weigh.ledger import draw_up

        for device in (CPU, DEMO_CARD):
            ledger, same = reckon(self.analysis, FINAL, device, WhatIf())
            self.assertEqual((ledger, same), (draw_up(self.analysis, FINAL, device), device))

    def test_each_question_moves_it(self) -> None:
        before = self.total(WhatIf())
        # 120 bytes a path: half the paths, half of that.
        self.assertEqual(before - self.total(WhatIf(flight=131_072)), 131_072 * 120)
        self.assertEqual(before - self.total(WhatIf(tile=256)), (262_144 - 65_536) * 120)
        self.assertEqual(
            self.total(WhatIf(tile=4096)), before
        )  # a tile larger than what is kept changes nothing
        self.assertLess(self.total(WhatIf(layers=())), before)
        self.assertLess(self.total(WhatIf(width=960, height=540)), before)
        self.assertEqual(self.total(WhatIf(tile=16), CPU), self.total(WhatIf(), CPU))

    def test_lent_memory_is_room(self) -> None:
        _, lent = reckon(self.analysis, FINAL, DEMO_CARD, WhatIf(lend=2 * GB))
        self.assertEqual(lent.free_bytes, DEMO_CARD.free_bytes + 2 * GB)

    def test_the_ledger_of_a_profile_adds_up_to_what_it_predicts(self) -> None:
        for asked in (WhatIf(), WhatIf(denoise="with", width=640, height=360, flight=50_000)):
            recipe = asked.recipe(FINAL)
            load = load_of(
                self.analysis,
                recipe,
                asked.in_flight(DEMO_CARD, recipe.width * recipe.height),
                asked.denoise == "with",
            )
            self.assertAlmostEqual(
                self.total(asked, profile=TRUE) / predicted(TRUE, load), 1, places=5
            )
        self.assertGreater(
            self.total(WhatIf(denoise="with"), profile=TRUE), self.total(WhatIf(), profile=TRUE)
        )
