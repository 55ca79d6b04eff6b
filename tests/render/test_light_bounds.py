"""How lamps are chosen, against sums in plain Python; and last rays that only look for light."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace
from typing import Any

import numpy as np

from mill_lane.core.recipe import Recipe
from mill_lane.core.render import lights
from mill_lane.core.render import slots as s
from mill_lane.core.render.jit import lean
from mill_lane.core.render.light_bounds import MOST_BALLS, light_bounds, meets_what_shines
from mill_lane.core.render.load import load
from mill_lane.core.render.pointers import f64_at, i64_at
from mill_lane.core.render.pose import pose
from mill_lane.core.render.session import Session
from mill_lane.core.render.world import World, new_paths
from mill_lane.core.scene.model import Light, Material, Scene
from mill_lane.core.scene.surroundings import Environment, Medium
from mill_lane.demo import shapes
from tests.scenes import WHITE, floor, scene_of

GREY = Material("grey", (0.6, 0.6, 0.6, 1.0), metallic=0.0)
LAMP = Material("lamp", (0.0, 0.0, 0.0, 1.0), metallic=0.0, emissive=(8.0, 7.0, 6.0))
DAWN = Environment((0.3, 0.4, 0.6), (0.9, 0.7, 0.5), (0.1, 0.1, 0.1))


@lean
def _choose(
    w: int,
    settings: int,
    q: int,
    point: int,
    horizon: float,
    us: int,
    n: int,
    out: int,
    chance: int,
) -> None:
    world, path, at = i64_at(w), f64_at(q), f64_at(point)
    lights.prepare_aim(
        world, f64_at(settings), path, at[0], at[1], at[2], at[3], at[4], at[5], horizon
    )
    for k in range(n):
        number, p, left = lights.pick_lamp(world, f64_at(settings), path, f64_at(us)[k])
        i64_at(out)[k] = number
        f64_at(chance)[2 * k], f64_at(chance)[2 * k + 1] = p, left


@lean
def _chance(w: int, settings: int, q: int, i: int) -> float:
    return lights.lamp_chance(i64_at(w), f64_at(settings), f64_at(q), i)


@lean
def _meets(w: int, q: int) -> bool:
    return meets_what_shines(i64_at(w), f64_at(q))


def settings(threshold: float = 0.0) -> np.ndarray:
    """By what each may give."""
    out = np.zeros(s.SETTINGS)
    out[s.S_CHOICE], out[s.S_LIGHT_THRESHOLD] = s.ONE_BY_ESTIMATE, threshold
    return out


def most_light(row: np.ndarray, at: np.ndarray, normal: np.ndarray | None) -> float:
    """How much a lamp may give at a point: one number after another, in plain Python."""
    kind = int(row[s.L_KIND])
    if row[s.L_SCALE] <= 0:
        return 0.0
    if kind == s.SKY:
        return float(row[s.L_LUMA])
    axis = row[s.L_DX : s.L_DZ + 1]
    if kind == s.SUN:
        shut = normal is not None and float(-axis @ normal) <= -0.2
        return 0.0 if shut else float(row[s.L_LUMA])
    to = row[s.L_X : s.L_Z + 1] - at
    radius = float(row[s.L_RADIUS]) if kind == s.MESH else 0.0
    if normal is not None and float(to @ normal) + radius <= 0:
        return 0.0
    d2 = float(to @ to)
    if kind == s.MESH:
        return float(row[s.L_LUMA] * abs(row[s.L_AREA])) / max(d2, radius * radius)
    if d2 >= row[s.L_RANGE] ** 2:
        return 0.0
    if kind == s.SPOT and float(-axis @ to) <= row[s.L_OUTER] * math.sqrt(d2):
        return 0.0
    return float(row[s.L_LUMA]) / max(d2, 1e-12)


def placed(x: float, y: float, z: float) -> np.ndarray:
    out = np.eye(4)
    out[:3, 3] = x, y, z
    return out


def many_lamps(count: int, away: float = 0.0, outside: Environment | None = DAWN) -> Scene:
    """Points, spots and a sun over a floor, a glowing ball, the sky; `away` from the origin."""
    rng = np.random.default_rng(count)
    lamps: list[tuple[Light, np.ndarray]] = []
    for k in range(count):
        spot = k % 3 == 2
        lamp = Light(
            f"l{k}",
            "spot" if spot else "point",
            intensity=float(rng.uniform(0.5, 9)),
            range=4.0 if k % 4 == 1 else math.inf,
            inner_cone=0.3,
            outer_cone=0.7,
        )
        turned = placed(*(rng.uniform((-3, 0.2, -3), (3, 3, 3)) + away))
        turned[:3, :3] = np.linalg.qr(rng.normal(size=(3, 3)))[0]
        lamps.append((lamp, turned))
    lamps.append((Light("sun", "directional", intensity=0.7), np.eye(4)))
    ball = shapes.ball(0.2, 12)
    ball = replace(ball, positions=(ball.positions + np.float32(away)).astype(np.float32))
    ground = floor(3.0)
    ground = replace(ground, positions=(ground.positions + np.float32(away)).astype(np.float32))
    return scene_of((ground, WHITE), (ball, LAMP), lights=tuple(lamps), environment=outside)


class TestChoice(unittest.TestCase):
    def chosen(
        self, world: World, at: np.ndarray, normal: np.ndarray | None, us: np.ndarray, **more: float
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """(numbers picked, their chances and what is left of u, the chance of each lamp)."""
        q, how = new_paths(world.light_count), settings(**more)
        q[s.Q_AIM_T] = 1.0
        point = np.concatenate([at, [0.0, 1.0, 0.0] if normal is None else normal])
        numbers, chances = np.zeros(len(us), np.int64), np.zeros((len(us), 2))
        horizon = 0.0 if normal is None else 1.0
        _choose(
            world.address,
            how.ctypes.data,
            q.ctypes.data,
            point.ctypes.data,
            horizon,
            us.ctypes.data,
            len(us),
            numbers.ctypes.data,
            chances.ctypes.data,
        )
        each = [
            _chance(world.address, how.ctypes.data, q.ctypes.data, i)
            for i in range(world.light_count)
        ]
        return numbers, chances, np.array(each)

    def test_chances_are_those_of_a_plain_sum(self) -> None:
        """1 to 40 lamps of all kinds, with and without a horizon, near the origin and far from it:
        the chance of each is its bound over the sum of all.
        """
        rng = np.random.default_rng(0)
        for count, away in ((0, 0.0), (1, 0.0), (6, 0.0), (7, 0.0), (24, 0.0), (40, 3000.0)):
            world = pose(load(many_lamps(count, away), 1), 0.0)
            rows = world.lights.rows
            for k in range(12):
                at = rng.uniform((-2, 0.01, -2), (2, 2, 2)) + away
                normal = None
                if k % 2:
                    normal = rng.normal(size=3)
                    normal /= np.linalg.norm(normal)
                want = np.array([most_light(row, at, normal) for row in rows])
                _, _, got = self.chosen(world, at, normal, np.zeros(1))
                # What is left of the scene's size by float32 widens the bounds a little.
                near = 2e-3 if away else 1e-4
                np.testing.assert_allclose(got, want / want.sum(), rtol=near, atol=1e-4)
                self.assertTrue(bool((got[want > 0] > 0).all()), "a lamp was left out")

    def test_as_often_as_its_chance(self) -> None:
        """Picked evenly over u, each lamp comes as often as it says, and says the same as when it
        is found by chance, to the bit.
        """
        us = (np.arange(40_000) + 0.5) / 40_000
        world = pose(load(many_lamps(21), 1), 0.0)
        for at in ((0.3, 0.2, 1.0), (-1.5, 1.0, -2.0)):
            numbers, chances, each = self.chosen(world, np.array(at), np.array([0, 1.0, 0]), us)
            self.assertTrue(bool((chances[:, 0] == each[numbers]).all()))
            often = np.bincount(numbers, minlength=world.light_count) / len(us)
            np.testing.assert_allclose(often, each, atol=3e-5)
            self.assertAlmostEqual(float(each.sum()), 1.0)
            # What is left of u is spread evenly again.
            for i in np.flatnonzero(each > 0.05):
                left = np.sort(chances[numbers == i, 1])
                self.assertLess(np.abs(left - np.linspace(0, 1, len(left))).max(), 0.01)

    def test_below_the_threshold_nothing_is_chosen(self) -> None:
        world = pose(load(many_lamps(9, outside=None), 1), 0.0)
        at = np.array([0.2, 0.1, 0.3])
        want = np.array([most_light(row, at, None) for row in world.lights.rows])
        limit = float(np.median(want))
        _, _, got = self.chosen(world, at, None, np.zeros(1), threshold=limit * 1.0001)
        kept = np.where(want >= limit * 1.0001, want, 0.0)
        np.testing.assert_allclose(got, kept / kept.sum(), atol=1e-4)
        numbers, _, none = self.chosen(world, at, None, np.zeros(3), threshold=1e9)
        self.assertEqual((numbers.tolist(), float(none.sum())), ([-1, -1, -1], 0.0))

    def test_bounds_are_no_less_than_what_arrives(self) -> None:
        """The table is wider than what float32 loses, also far from the origin."""
        world = pose(load(many_lamps(24, 5e4), 1), 0.0)
        table = light_bounds(world.lights.rows, world.centre, world.size)
        self.assertEqual((table.shape, table.dtype), ((4, 12, 8), np.dtype(np.float32)))
        places = table[:, :3].transpose(0, 2, 1).reshape(-1, 3)[:24] + world.centre
        apart = np.abs(places - world.lights.rows[:24, s.L_X : s.L_Z + 1]).max()
        radius = table[:, 4].reshape(-1)[:24]
        self.assertTrue(bool((radius > apart).all()))


class TestLastRays(unittest.TestCase):
    def ray(self, world: World, origin: Any, direction: Any) -> bool:
        q = new_paths(world.light_count)
        q[s.Q_OX : s.Q_OZ + 1 : s.SIDE] = origin
        q[s.Q_DX : s.Q_DZ + 1 : s.SIDE] = np.array(direction) / np.linalg.norm(direction)
        return bool(_meets(world.address, q.ctypes.data))

    def test_whatever_hits_it_is_seen_coming(self) -> None:
        """Rays to points on things that shine always meet their balls, near and far; rays that
        start inside do; those that look away do not.
        """
        for away in (0.0, 2e4):
            scene = many_lamps(3, away)
            world = pose(load(scene, 1), 0.0)
            g = scene.meshes[1].parts[0].load()
            rng = np.random.default_rng(2)
            for target in g.positions[:: max(1, len(g.positions) // 40)].astype(float):
                origin = rng.uniform(-50, 50, 3) + away
                self.assertTrue(self.ray(world, origin, target - origin))
                self.assertFalse(self.ray(world, target + np.array([0, 60.0, 0]), [0.1, 1.0, 0.0]))
            self.assertTrue(self.ray(world, np.full(3, away), (1, 0, 0)))

    def compare(self, scene: Scene, **more: Any) -> None:
        """The same samples with last rays followed to whatever they hit: the same light."""
        values: dict[str, Any] = {"width": 48, "height": 27, "samples": 16, "layers": ()}
        recipe = Recipe(**(values | {"min_samples": 1, "bounces": 1} | more))
        pictures, rays = [], []
        loaded = load(scene, 1)
        for always in (False, True):
            session = Session(loaded, recipe)
            if always:
                session.world.table[s.W_SHINING_COUNT] = -1
            while not session.done:
                session.step(5.0)
            pictures.append(session.film.light / session.film.samples[..., None])
            work = session.work.counts[: s.C_COMPONENTS].reshape(-1, 5).sum(0)
            rays.append(int(work[4]))
        # Light of one ray may be added in another order: the last bit of a float32 sum.
        np.testing.assert_allclose(pictures[0], pictures[1], rtol=2e-6, atol=1e-7)
        self.assertGreater(float(pictures[0].mean()), 0.01)
        self.assertLessEqual(rays[0], rays[1])

    def test_the_same_picture(self) -> None:
        glass = Material("glass", (0.9, 1.0, 0.95, 1.0), metallic=0.0, transmission=1.0)
        leaf = replace(GREY, name="leaf", base_color=(0.3, 0.7, 0.2, 0.5), alpha_mode="BLEND")
        board = Material("board", (0.2, 0.8, 0.4, 1.0), unlit=True)
        pane = shapes.sheet(np.array([-1.0, 0, 1.0]), np.array([2.0, 0, 0]), np.array([0, 2.0, 0]))
        wall = shapes.sheet(np.array([-3.0, 0, -1]), np.array([6.0, 0, 0]), np.array([0, 3.0, 0]))
        base = many_lamps(4)
        for extra in ((), ((pane, glass),), ((pane, leaf),), ((wall, board),)):
            for outside in (None, DAWN, Environment(sun_elevation=30.0)):
                things = ((floor(3.0), WHITE), (shapes.ball(0.3, 12), LAMP), *extra)
                scene = scene_of(*things, environment=outside, eye=(0, 1.2, 4), at=(0, 0.5, 0))
                self.compare(scene)
        self.compare(base)
        self.compare(base, bounces=0)
        fog = Medium("haze", (-3, 0, -3), (3, 3, 3), 0.3, 0.02, 0.3)
        self.compare(replace(base, media=(fog,)))

    def test_too_many_to_look_at(self) -> None:
        """With more things that shine than are worth it, each last ray is followed."""
        ball = shapes.ball(0.05, 4)
        things = [(floor(3.0), WHITE)]
        for k in range(MOST_BALLS + 1):
            at = np.float32((0.1 * (k % 20) - 1, 0.1, 0.1 * (k // 20) - 1))
            things.append((replace(ball, positions=ball.positions + at), LAMP))
        world = pose(load(scene_of(*things), 1), 0.0)
        self.assertEqual(int(world.table[s.W_SHINING_COUNT]), -1)


if __name__ == "__main__":
    unittest.main()
