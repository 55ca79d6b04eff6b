"""Eight paths at once: what each would get alone, wherever the scene lies, however large it is."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace
from typing import Any

import numpy as np

from mill_lane.core.render import microfacet, quick
from mill_lane.core.render import slots as s
from mill_lane.core.render.jit import kernel, lean
from mill_lane.core.render.lanes import read, write
from mill_lane.core.render.pointers import f32_at, f64_at
from mill_lane.core.render.session import Session
from mill_lane.core.render.side_by_side import following, mask_of, number_of, own, put, take
from mill_lane.core.render.world import new_paths
from mill_lane.core.scene.model import Scene
from mill_lane.demo import shapes
from tests.scenes import WHITE, even_sky, floor, mean_luma, render, scene_of

F = np.float32


@lean
def _doubled(p: int, place: int, paths: int) -> None:
    put(f64_at(p), place, take(f64_at(p), place) * F(2), mask_of(paths))


@lean
def _counted(p: int, paths: int) -> Any:
    """Each path writes its number, from the first on."""
    count = 0
    while paths != 0:
        k, paths = following(paths)
        q = own(f64_at(p), k)
        q[s.Q_OUT] = number_of(q)
        count += 1
    return count


@lean
def _shading_of_lanes(x: int, out: int) -> None:
    a, b, c = read(f32_at(x), 0, 8), read(f32_at(x), 8, 8), read(f32_at(x), 16, 8)
    hx, hy, hz = microfacet.sample_visible_normal(a, b * F(0), c, b, b, a, c)
    cosine, sine = microfacet.turn(c)
    reflected, density = microfacet.ggx(a * a, c, b, a, b)
    write(microfacet.fresnel(c, b + F(0.6)), f32_at(out), 0)
    write(microfacet.schlick(a, c), f32_at(out), 8)
    write(hx, f32_at(out), 16)
    write(hy, f32_at(out), 24)
    write(hz, f32_at(out), 32)
    write(cosine, f32_at(out), 40)
    write(sine, f32_at(out), 48)
    write(reflected, f32_at(out), 56)
    write(density, f32_at(out), 64)
    write(quick.base2(a), f32_at(out), 72)


@kernel(cache=False)
def _shading_of_numbers(a: float, b: float, c: float) -> Any:
    return (
        (microfacet.fresnel(c, b + 0.6), microfacet.schlick(a, c)),
        microfacet.sample_visible_normal(a, 0.0, c, b, b, a, c),
        microfacet.turn(c),
        microfacet.ggx(a * a, c, b, a, b),
        (math.log2(a),),
    )


class TestPaths(unittest.TestCase):
    def test_only_the_chosen_are_written(self) -> None:
        rng = np.random.default_rng(1)
        q = new_paths(3)
        for paths in (0, 1, 0b10000000, 0b01011010, 255):
            place = s.Q_TR
            before = q.copy()
            q[place : place + s.SIDE] = rng.normal(size=8).astype(F)
            given = q[place : place + s.SIDE].copy()
            _doubled(q.ctypes.data, place, paths)
            chosen = np.array([paths >> k & 1 for k in range(8)], bool)
            want = np.where(chosen, 2 * given, given)
            np.testing.assert_array_equal(q[place : place + s.SIDE], want)
            q[place : place + s.SIDE] = before[place : place + s.SIDE]
            np.testing.assert_array_equal(q, before)

    def test_each_knows_its_number(self) -> None:
        q = new_paths()
        self.assertEqual(q.ctypes.data % 64, 0)
        for paths in (0, 1, 0b10010001, 255):
            q[s.Q_OUT : s.Q_OUT + s.SIDE] = -1
            self.assertEqual(_counted(q.ctypes.data, paths), paths.bit_count())
            want = [k if paths >> k & 1 else -1 for k in range(8)]
            self.assertEqual(q[s.Q_OUT : s.Q_OUT + s.SIDE].tolist(), want)

    def test_a_batch_has_room_for_all_of_its_groups(self) -> None:
        """What stands once, behind them, is told to every path, and lies within the scratch."""
        for lamps in (0, 1, 8, 9, 500):
            q, group = new_paths(lamps), s.group_size(lamps)
            behind = q.ctypes.data + 8 * s.GROUPS * group
            for g in range(s.GROUPS):
                place = g * group + s.Q_THREAD
                self.assertEqual(q[place : place + s.SIDE].tolist(), [behind] * s.SIDE)
            self.assertEqual(group % s.SIDE, 0)
            self.assertEqual(s.pairs_place(lamps) + s.pair_sums(lamps), len(q))

    def test_shading_is_that_of_numbers(self) -> None:
        """Fresnel, GGX, visible normals, turns and logarithms in float32 and in float64."""
        rng = np.random.default_rng(2)
        for _ in range(200):
            x = rng.uniform(0.02, 0.98, (3, 8)).astype(F)
            out = np.zeros((10, 8), F)
            _shading_of_lanes(x.ctypes.data, out.ctypes.data)
            for k in range(8):
                parts = _shading_of_numbers(*(float(v) for v in x[:, k]))
                want = [number for part in parts for number in part]
                np.testing.assert_allclose(out[:, k], want, rtol=3e-4, atol=2e-6)


def _still_life(scale: float = 1.0, mirrored: bool = False, away: Any = (0, 0, 0)) -> Scene:
    """A ball on a floor under a sky, its mesh smaller than its placement makes it."""
    ball = shapes.ball(0.5, 24)
    small = replace(ball, positions=(ball.positions / F(scale)).astype(F))
    scene = scene_of(
        (floor(4.0), WHITE),
        (small, replace(WHITE, base_color=(0.6, 0.4, 0.2, 1.0), roughness=0.3)),
        eye=np.add((0, 1.2, 3), away),
        at=np.add((0, 0.4, 0), away),
        environment=even_sky(),
    )
    matrix = np.diag([-scale if mirrored else scale, scale, scale, 1.0])
    matrix[1, 3] = 0.5
    moved = np.eye(4)
    moved[:3, 3], matrix[:3, 3] = away, matrix[:3, 3] + away
    nodes = list(scene.nodes)
    nodes[0], nodes[1] = replace(nodes[0], matrix=moved), replace(nodes[1], matrix=matrix)
    return replace(scene, nodes=tuple(nodes))


def _drawn(scene: Scene) -> Session:
    return render(scene, samples=64, size=24, bounces=2, layers=("normal",))


class TestWhereverItLies(unittest.TestCase):
    """Directions and weights are float32: neither place nor size may show in the picture."""

    def setUp(self) -> None:
        self.plain = _drawn(_still_life())

    def same(self, scene: Scene) -> None:
        other = _drawn(scene)
        mean, error = mean_luma(self.plain)
        again, more = mean_luma(other)
        self.assertLess(abs(mean - again), 3 * math.hypot(error, more) + 1e-4)
        normals = [x.film.planes()["normal"] / 64 for x in (self.plain, other)]
        self.assertLess(np.abs(normals[0] - normals[1]).mean(), 2e-3)

    def test_far_away(self) -> None:
        self.same(_still_life(away=(20_000.0, -3_000.0, 7_000.0)))

    def test_meshes_in_other_units(self) -> None:
        for scale in (1e-6, 1e-3, 1e3, 1e6):
            with self.subTest(scale=scale):
                self.same(_still_life(scale))

    def test_mirrored(self) -> None:
        """The ball is the same from both hands; what shines of it, too."""
        self.same(_still_life(mirrored=True))
