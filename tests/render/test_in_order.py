"""Work shared out among threads: its order, and that whoever wants it to stop need not wait."""

from __future__ import annotations

import itertools
import threading
import unittest
from unittest.mock import patch

from hypothesis import given
from hypothesis import strategies as st

from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.render import load, load_textures
from mill_lane.core.render.in_order import in_order
from mill_lane.core.render.session import shared_out
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


class TestSharingOut(unittest.TestCase):
    @given(st.integers(0, 3000), st.integers(1, 16))
    def test_every_tile_once(self, count: int, threads: int) -> None:
        """Pieces lie side by side, none is empty, none is larger than the one before; with several
        threads none is more than half of a thread's even share of what is left.
        """
        edges = shared_out(count, threads)
        sizes = [b - a for a, b in itertools.pairwise(edges)]
        self.assertEqual((edges[0], edges[-1]), (0, count))
        self.assertEqual(sizes, sorted(sizes, reverse=True))
        for begin, size in zip(edges, sizes, strict=False):
            self.assertGreater(size, 0)
            if threads > 1:
                self.assertLessEqual(size, max(1, (count - begin) / (2 * threads)))


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
