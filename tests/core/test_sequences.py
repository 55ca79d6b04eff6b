"""Names of sequences: digits, ranges, what is missing."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from mill_lane.core.errors import MillError
from mill_lane.core.formats.sequences import gaps, gaps_in_words, pattern_of


class TestPatterns(unittest.TestCase):
    def test_how_they_are_written(self) -> None:
        for name, frame, wanted in (
            ("shot.####.exr", 7, "shot.0007.exr"),
            ("shot.%04d.exr", 7, "shot.0007.exr"),
            ("shot.%d.exr", 7, "shot.7.exr"),
            ("shot.##.exr", 1234, "shot.1234.exr"),
            ("#.exr", -3, "-3.exr"),
        ):
            found = pattern_of(Path("night") / name)
            assert found is not None
            self.assertEqual(found.path(frame), Path("night") / wanted)
        self.assertIsNone(pattern_of("shot.exr"))
        with self.assertRaisesRegex(MillError, "2 places for a number"):
            pattern_of("a.##.b.##.exr")

    def test_what_is_there_and_what_is_not(self) -> None:
        with tempfile.TemporaryDirectory() as held:
            folder = Path(held)
            names = [
                "s.0001.exr",
                "s.0002.exr",
                "s.0005.exr",
                "s.0009.exr",
                "s.7.exr",
                "x.0003.exr",
            ]
            for name in (*names, "s.00012.exr", "s.0004.png"):
                (folder / name).touch()
            found = pattern_of(folder / "s.####.exr")
            assert found is not None
            self.assertEqual(found.frames(), [1, 2, 5, 9])
            self.assertEqual(gaps(found.frames()), [(3, 4), (6, 8)])
            self.assertEqual(gaps_in_words(found.frames()), "5 frames missing: 3 to 4, 6 to 8")
        self.assertEqual(found.frames(), [])  # nor is a folder that is gone an error

    @given(st.integers(-99999, 99999), st.integers(1, 6))
    def test_a_frame_is_found_under_the_name_it_is_given(self, frame: int, width: int) -> None:
        with tempfile.TemporaryDirectory() as held:
            found = pattern_of(Path(held) / f"shot_{'#' * width}.exr")
            assert found is not None
            found.path(frame).touch()
            self.assertEqual(found.frames(), [frame])

    @given(st.sets(st.integers(0, 60), min_size=1))
    def test_gaps_and_frames_make_the_range(self, frames: set[int]) -> None:
        listed = sorted(frames)
        missing = {n for a, b in gaps(listed) for n in range(a, b + 1)}
        self.assertEqual(missing | frames, set(range(listed[0], listed[-1] + 1)))
        self.assertFalse(missing & frames)
