"""Several numbers at once: the same bits in 1, 8 and 16 lanes, and the numbers that NumPy gives."""

from __future__ import annotations

import math
import unittest
from collections.abc import Callable
from typing import Any

import numpy as np

from mill_lane.core.render import lanes, path, quick
from mill_lane.core.render import slots as s
from mill_lane.core.render.jit import inner, kernel, lean
from mill_lane.core.render.path import draw
from mill_lane.core.render.pointers import f32_at, f64_at, u32_at
from mill_lane.core.render.world import new_paths
from tests.kernels import Callable as Called
from tests.kernels import sampler

F = np.float32
read, write, where, root = lanes.read, lanes.write, lanes.where, lanes.root
most, least, size_of, total = lanes.most, lanes.least, lanes.size_of, lanes.total


@inner
def _arithmetic(x: Any, y: Any) -> Any:
    apart = (x - y) * (x - y) + x / (size_of(y) + F(1))
    inside = (x > y) & (apart < F(2.0)) | (y >= F(0.75))
    return where(inside, root(size_of(apart)), most(x, 0.25) - least(y, x) * 3)


def _over(count: int) -> Callable[[int, int, int], None]:
    """The same arithmetic over 16 numbers, `count` at a time."""

    @kernel
    def over(a: int, b: int, out: int) -> None:
        for k in range(0, 16, count):
            x, y = read(f32_at(a), k, count), read(f32_at(b), k, count)
            write(_arithmetic(x, y), f32_at(out), k)

    return over  # type: ignore[no-any-return]


@lean
def _sum(a: int) -> Any:
    x = read(f32_at(a), 0, 8)
    return total(x), lanes.bits(x > F(0.5)), lanes.lane(x, 5)


@lean
def _whole(a: int, out: int) -> None:
    x = read(u32_at(a), 0, 8)
    x = (x ^ (x >> np.uint32(15))) * np.uint32(0x9E3779B9)
    write(x | ((x & np.uint32(3)) << np.uint32(7)), u32_at(out), 0)


@lean
def _logarithm(x: int, out: int) -> None:
    write(quick.base2(read(f32_at(x), 0, 8)), f32_at(out), 0)


@lean
def _draw(p: int) -> None:
    draw(f64_at(p), np.int64(0b10110101))


class TestLanes(unittest.TestCase):
    def test_as_many_lanes_as_wanted(self) -> None:
        """1, 8 and 16 lanes give the same bits, and NumPy's numbers."""
        rng = np.random.default_rng(3)
        made = {count: _over(count) for count in (1, 8, 16)}
        for _ in range(50):
            a, b = rng.normal(size=(2, 16)).astype(F)
            got = {}
            for count, over in made.items():
                got[count] = np.zeros(16, F)
                over(a.ctypes.data, b.ctypes.data, got[count].ctypes.data)
            self.assertEqual(got[1].tobytes(), got[8].tobytes())
            self.assertEqual(got[1].tobytes(), got[16].tobytes())
            x, y = a.astype(float), b.astype(float)
            apart = (x - y) ** 2 + x / (abs(y) + 1)
            inside = (a > b) & (apart < 2) | (b >= 0.75)
            want = np.where(inside, np.sqrt(abs(apart)), np.maximum(x, 0.25) - 3 * np.minimum(y, x))
            np.testing.assert_allclose(got[8], want, rtol=2e-5, atol=2e-5)

    def test_sums_and_masks(self) -> None:
        a = np.random.default_rng(4).random(8).astype(F)
        whole, mask, fifth = _sum(a.ctypes.data)
        self.assertAlmostEqual(whole, float(a.astype(float).sum()), places=14)
        self.assertEqual(mask, sum(1 << k for k in range(8) if a[k] > 0.5))
        self.assertEqual(fifth, a[5])

    def test_whole_numbers_wrap_around(self) -> None:
        a = np.random.default_rng(5).integers(0, 2**32, 8, np.uint32)
        out = np.zeros(8, np.uint32)
        _whole(a.ctypes.data, out.ctypes.data)
        x = (a ^ (a >> np.uint32(15))) * np.uint32(0x9E3779B9)
        np.testing.assert_array_equal(out, x | ((x & np.uint32(3)) << np.uint32(7)))

    def test_wrong_operands_are_told(self) -> None:
        """Lanes of different number do not mix, and the compiler says so."""

        @kernel(cache=False)
        def mixed(a: int) -> float:
            return total(read(f32_at(a), 0, 8) + read(f32_at(a), 0, 16))

        with self.assertRaises(Exception) as caught:
            mixed(np.zeros(16, F).ctypes.data)
        self.assertIn("Lanes(float32 x 8)", str(caught.exception))


class TestRandomNumbers(unittest.TestCase):
    def test_eight_paths_at_once_get_what_each_would_get(self) -> None:
        """Paths that take no part keep what they have."""
        rng = np.random.default_rng(6)
        q = new_paths()
        drawn = q[s.Q_DRAWN : s.Q_DRAWN + 2 * s.DRAWN * s.SIDE].reshape(-1, 2, s.SIDE)
        for _ in range(50):
            seeds, indices = rng.integers(2**32, size=8), rng.integers(2**24, size=8)
            events, before = rng.integers(60000, size=8), drawn.copy()
            for place, numbers in ((s.Q_SEED, seeds), (s.Q_INDEX, indices), (s.Q_EVENT, events)):
                q[place : place + s.SIDE] = numbers
            _draw(q.ctypes.data)
            for i in range(8):
                if not 0b10110101 >> i & 1:
                    np.testing.assert_array_equal(drawn[:, :, i], before[:, :, i])
                    continue
                for k in range(path.DIM_CHOICE, s.DRAWN):
                    want = sampler.pair(int(seeds[i]), int(indices[i]), int(events[i]) + k)
                    self.assertEqual(tuple(drawn[k, :, i] * 2.0**-32), want)


class TestQuickFunctions(unittest.TestCase):
    """Against the C library's, within what their sources promise."""

    def test_logarithm(self) -> None:
        rng, out = np.random.default_rng(7), np.zeros(8, F)
        for _ in range(400):
            x = np.exp(rng.uniform(-80, 80, 8)).astype(F)
            _logarithm(x.ctypes.data, out.ctypes.data)
            np.testing.assert_allclose(out, np.log2(x.astype(float)), atol=2e-5)

    def test_angles(self) -> None:
        quickly = Called(quick)
        for x, y in np.random.default_rng(8).normal(size=(3000, 2)):
            cosine = x / math.hypot(x, y)
            self.assertAlmostEqual(quickly.polar_angle(cosine), math.acos(cosine), delta=3e-8)
            turned = math.atan2(y, x) % (2 * math.pi)
            self.assertAlmostEqual(quickly.turned_by(y, x), turned, delta=1e-9)
        for x, y in ((1.0, 0.0), (0.0, 1.0), (-1.0, 0.0), (0.0, -1.0)):
            want = math.atan2(y, x) % (2 * math.pi)
            self.assertAlmostEqual(quickly.turned_by(y, x), want, delta=1e-9)
        self.assertEqual(quickly.polar_angle(1.0), 0.0)
        self.assertAlmostEqual(quickly.polar_angle(-1.0), math.pi)


class TestLinkedFunctions(unittest.TestCase):
    def test_python_is_refused(self) -> None:
        """What is only part of kernels says so, instead of bringing the process down."""
        with self.assertRaises(TypeError):
            quick.polar_angle(0.5)


if __name__ == "__main__":
    unittest.main()
