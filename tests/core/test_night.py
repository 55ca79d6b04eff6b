"""Frame lists, the order of a night, time left, what looks wrong with a frame."""

from __future__ import annotations

import itertools
import math
import random
import unittest
from typing import ClassVar

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from mill_lane.core.errors import MillError
from mill_lane.core.plan.frames import early, frames_in_words, parse_frames
from mill_lane.core.plan.night import (
    TimeLeft,
    beside_heaviest,
    flickers,
    from_rehearsal,
    time_left,
    troubles,
)

# A machine that is busy makes inputs slowly: that is no fault of the test.
PATIENT = settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
FRAMES = st.lists(st.integers(-999, 9999), min_size=1, max_size=40, unique=True)


class TestFrames(unittest.TestCase):
    def test_as_people_write_them(self) -> None:
        for text, frames in (
            ("7", [7]),
            ("1-5", [1, 2, 3, 4, 5]),
            ("1-10x4", [1, 5, 9]),
            ("12, 40,96", [12, 40, 96]),
            ("1-9x4, 1-4", [1, 5, 9, 2, 3, 4]),  # every fourth first, then the rest
            (" 1 - 3 ", [1, 2, 3]),
            ("-2-1", [-2, -1, 0, 1]),
            ("3, 3, 3", [3]),
        ):
            self.assertEqual(parse_frames(text), frames, text)

    def test_what_is_none(self) -> None:
        for text in ("", "1,,2", "a", "1-", "5-1", "1-9x0", "1x3", "1..5", "1-99999999", "²"):
            with self.assertRaises(MillError, msg=text):
                parse_frames(text)
        with self.assertRaisesRegex(MillError, "over 100000 frames"):
            parse_frames("1-9000000")
        with self.assertRaisesRegex(MillError, "outside the range 1 to 4"):
            parse_frames("2-5", (1, 4))

    @PATIENT
    @given(FRAMES)
    def test_words_are_read_back(self, frames: list[int]) -> None:
        self.assertEqual(parse_frames(frames_in_words(frames)), frames)

    def test_words_are_short(self) -> None:
        self.assertEqual(frames_in_words(range(1, 161)), "1-160")
        self.assertEqual(frames_in_words([1, 5, 9, 13, 40]), "1-13x4, 40")
        self.assertEqual(frames_in_words([]), "")

    @PATIENT
    @given(FRAMES)
    def test_the_early_order_has_them_all(self, frames: list[int]) -> None:
        self.assertEqual(sorted(early(frames)), sorted(frames))

    @PATIENT
    @given(st.integers(3, 400))
    def test_the_range_is_seen_early(self, count: int) -> None:
        """After the first k frames no gap is wider than twice what k frames could leave."""
        order = early(list(range(count)))
        self.assertEqual(order[:3], [0, count - 1, (count - 1) // 2])
        for k in (3, 5, 9, 17):
            seen = sorted(order[:k])
            widest = max((b - a for a, b in itertools.pairwise(seen)), default=0)
            self.assertLessEqual(widest, 2 * math.ceil((count - 1) / max(min(k, count) - 1, 1)) + 1)


class TestTimeLeft(unittest.TestCase):
    def test_a_night(self) -> None:
        """160 frames at 3 minutes are 8 hours (common practice)."""
        found = time_left([], 160, first=TimeLeft(180.0, 18.0, 0))
        assert found is not None
        self.assertEqual(found.seconds, 8 * 3600)
        known = time_left([180.0] * 10, 150)
        assert known is not None
        self.assertAlmostEqual(known.seconds, 150 * 180)
        self.assertLess(known.margin, 0.05 * known.seconds)
        self.assertIsNone(time_left([], 10))
        self.assertEqual(time_left([3.0], 0), TimeLeft(0.0, 0.0, 1))

    def test_what_the_running_frame_has_counts(self) -> None:
        found = time_left([100.0] * 5, 4, running=40.0)
        assert found is not None
        self.assertAlmostEqual(found.seconds, 360.0)

    def test_margins_cover(self) -> None:
        """Of frames that differ by chance nine in ten predictions hold, or more."""
        rng = random.Random(7)
        held = 0
        for _ in range(400):
            frames = [rng.lognormvariate(4.0, 0.25) for _ in range(60)]
            found = time_left(frames[:10], 50)
            assert found is not None
            held += abs(sum(frames[10:]) - found.seconds) <= found.margin
        self.assertGreaterEqual(held / 400, 0.85)
        self.assertLess(held / 400, 0.99)


class TestRehearsal(unittest.TestCase):
    def test_time_between_rehearsed_frames_runs_straight(self) -> None:
        found = from_rehearsal({1: 2.0, 11: 4.0}, 10.0, range(1, 12))
        assert found is not None
        self.assertAlmostEqual(found.seconds, 10 * sum(2 + 0.2 * k for k in range(11)))
        self.assertGreater(found.margin, 0.1 * found.seconds)
        outside = from_rehearsal({5: 3.0}, 2.0, [1, 9])
        assert outside is not None
        self.assertAlmostEqual(outside.seconds, 12.0)
        self.assertIsNone(from_rehearsal({}, 2.0, [1]))

    def test_margins_cover_a_hump(self) -> None:
        """Frames that take longer in the middle, seen at five places."""
        for turns in range(1, 4):
            took = {n: 10 + 4 * math.sin(turns * n / 40) for n in range(1, 161)}
            seen = {n: took[n] / 8 for n in (1, 40, 80, 120, 160)}
            found = from_rehearsal(seen, 8.0, list(took))
            assert found is not None
            self.assertLessEqual(abs(found.seconds - sum(took.values())), found.margin)


class TestTroubles(unittest.TestCase):
    GOOD: ClassVar[dict[str, float]] = {
        "mean_luminance": 0.2,
        "seconds": 60.0,
        "noise": 0.05,
        "bad_pixels": 0,
    }

    def test_each(self) -> None:
        beside = [dict(self.GOOD) for _ in range(4)]
        self.assertEqual(troubles(self.GOOD, beside), [])
        for key, value, words in (
            ("mean_luminance", 0.0, "black"),
            ("mean_luminance", 0.5, "2.5 times brighter"),
            ("mean_luminance", 0.05, "4.0 times darker"),
            ("seconds", 240.0, "4.0 times as long"),
            ("noise", 0.15, "3.0 times as noisy"),
            ("bad_pixels", 3, "3 pixels are no numbers"),
        ):
            said = troubles(self.GOOD | {key: value}, beside)
            self.assertEqual(len(said), 1, (key, said))
            self.assertIn(words, said[0])
        self.assertEqual(troubles(self.GOOD | {"seconds": 900.0}, beside[:1]), [])
        short = [b | {"seconds": 0.1} for b in beside]
        self.assertEqual(troubles(self.GOOD | {"seconds": 4.0}, short), [])  # a busy computer

    def test_a_slow_change_is_no_trouble(self) -> None:
        """Dawn: each frame is a little brighter than the last."""
        frames = [self.GOOD | {"mean_luminance": 0.1 * 1.05**k} for k in range(60)]
        for k in range(4, 60):
            self.assertEqual(troubles(frames[k], frames[k - 4 : k][::-1]), [])
        self.assertEqual(flickers([f["mean_luminance"] for f in frames]), [])

    def test_flicker(self) -> None:
        bright = [0.2 + 0.001 * math.sin(k) for k in range(30)]
        self.assertEqual(flickers(bright), [])
        bright[11] *= 1.2
        bright[20] *= 0.8
        self.assertEqual(flickers(bright), [11, 20])
        self.assertEqual(flickers([0.1, 9.0, 0.1]), [])  # too few to know


class TestTheHeaviest(unittest.TestCase):
    @PATIENT
    @given(st.integers(1, 4), st.floats(0.0, 1.0))
    def test_found_where_time_rises_and_falls(self, step: int, where: float) -> None:
        """Of a range with one hill, looking beside the heaviest comes nearer each time."""
        frames = list(range(1, 97, step))
        peak = frames[round(where * (len(frames) - 1))]
        cost = {n: 100.0 - abs(n - peak) for n in frames}
        known = {n: cost[n] for n in early(frames)[:5]}
        far = abs(max(known, key=known.__getitem__) - peak)
        for _ in range(8):
            more = beside_heaviest(known, frames)
            self.assertLessEqual(len(more), 2)
            self.assertFalse(set(more) & set(known))
            known |= {n: cost[n] for n in more}
            now = abs(max(known, key=known.__getitem__) - peak)
            self.assertLessEqual(now, far)
            far = now
        self.assertEqual(far, 0)

    def test_nothing_between(self) -> None:
        self.assertEqual(beside_heaviest({}, [1, 2]), [])
        self.assertEqual(beside_heaviest({1: 2.0, 2: 3.0}, [1, 2]), [])
