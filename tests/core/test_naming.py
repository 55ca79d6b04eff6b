"""What placed cameras are called."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from mill_lane.core.scene.naming import told_apart

NAMES = st.sampled_from(["", "a", "b", "a (2)"])


class TestNames(unittest.TestCase):
    def test_by_node_by_camera_by_number(self) -> None:
        self.assertEqual(told_apart([("shot 1", "lens"), ("shot 2", "lens")]), ["shot 1", "shot 2"])
        self.assertEqual(told_apart([("camera", "left"), ("camera", "right")]), ["left", "right"])
        self.assertEqual(told_apart([("camera", "c"), ("camera", "c")]), ["camera", "camera (2)"])
        self.assertEqual(told_apart([("", "c"), ("", "c")]), ["c", "c (2)"])

    @given(st.lists(st.tuples(NAMES, NAMES), max_size=8))
    def test_no_two_are_alike(self, placed: list[tuple[str, str]]) -> None:
        names = told_apart(placed)
        self.assertEqual((len(names), len(set(names))), (len(placed), len(placed)))
