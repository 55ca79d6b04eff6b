"""Work shared out among threads: its order, and that whoever wants it to stop need not wait."""

from __future__ import annotations

import threading
import unittest
from unittest.mock import patch

from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.render import load, load_textures
from mill_lane.core.render.in_order import in_order
from tests.scenes import small_demo


class Stop(Exception):
    """Somebody wants it to end."""


class TestInOrder(unittest.TestCase):
    def test_results_in_order(self) -> None:
        gates = [threading.Event() for _ in range(6)]

        def made(i: int) -> int:
            if i < 5:  # each waits for the one after it: two threads are enough in pairs
                gates[i].wait(0.05)
            gates[i - 1].set()
            return i * i

        self.assertEqual(list(in_order(made, 6, 2)), [i * i for i in range(6)])
        self.assertEqual(list(in_order(made, 6, 2, lambda: None)), [i * i for i in range(6)])

    def test_an_error_comes_through(self) -> None:
        def made(i: int) -> int:
            if i == 2:
                raise MillError("It is damaged.", "Save it again.")
            return i

        for meanwhile in (None, lambda: None):
            got = in_order(made, 5, 2, meanwhile)
            self.assertEqual((next(got), next(got)), (0, 1))
            with self.assertRaisesRegex(MillError, "damaged"):
                next(got)

    def test_a_timeout_of_the_work_is_an_error_of_it(self) -> None:
        """What the work itself raises is not taken for still waiting."""

        def made(i: int) -> int:
            raise TimeoutError("the disk")

        with self.assertRaisesRegex(TimeoutError, "the disk"):
            list(in_order(made, 1, 1, lambda: None))

    def test_stopping_waits_for_nobody(self) -> None:
        """What runs goes on by itself, what waits is never begun."""
        go_on, begun = threading.Event(), []
        self.addCleanup(go_on.set)

        def made(i: int) -> int:
            begun.append(i)
            go_on.wait(30)
            return i

        def meanwhile() -> None:
            if len(begun) == 2:
                raise Stop

        with self.assertRaises(Stop):
            list(in_order(made, 9, 2, meanwhile))
        self.assertFalse(go_on.is_set())
        self.assertEqual(sorted(begun), [0, 1])


class TestLoading(unittest.TestCase):
    def stopped(self, module: object, name: str, phase: str) -> None:
        """Loading is stopped while all threads are deep in one piece of work."""
        scene = open_scene(small_demo())
        go_on, inside = threading.Event(), threading.Event()
        self.addCleanup(go_on.set)
        usual = getattr(module, name)

        def slowly(*args: object) -> object:
            inside.set()
            go_on.wait(30)
            return usual(*args)

        told: list[str] = []

        def progress(share: float, text: str) -> None:
            told.append(text)
            if inside.is_set():
                raise Stop

        with patch.object(module, name, slowly), self.assertRaises(Stop):
            load.load(scene, 2, progress)
        self.assertFalse(go_on.is_set())
        self.assertIn(phase, told[-1])

    def test_stopped_in_the_middle_of_a_picture(self) -> None:
        self.stopped(load_textures, "decode", "loading textures: 0")

    def test_stopped_in_the_middle_of_a_mesh(self) -> None:
        self.stopped(load, "build_mesh", "loading geometry: 0")


if __name__ == "__main__":
    unittest.main()
