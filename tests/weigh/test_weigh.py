"""Weighing, the ledger, the distance rule, the plan."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from mill_lane.core.devices.cpu import as_it_is_now, cpu_device, find_machine
from mill_lane.core.devices.model import DEMO_CARD, GB, Device
from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.plan.estimate import predict
from mill_lane.core.plan.fitting import check_fits
from mill_lane.core.recipe import FINAL, Recipe
from mill_lane.core.render.film import new_film
from mill_lane.core.render.load import load
from mill_lane.core.scene.model import (
    Camera,
    Channel,
    Material,
    Mesh,
    Node,
    Scene,
    Texture,
    TextureUse,
)
from mill_lane.core.scene.parts import part_of
from mill_lane.core.trim import TRIMS
from mill_lane.core.trim.model import parameters_of
from mill_lane.core.trim.shrink import shrink
from mill_lane.core.weigh.frames import frames_looked_at
from mill_lane.core.weigh.ledger import Ledger, Step, draw_up, film_steps, judge
from mill_lane.core.weigh.measure import box_distance, weigh
from mill_lane.core.weigh.outlines import hull
from mill_lane.core.weigh.rules.distance import side_limit
from mill_lane.core.weigh.rules.sizes import halvings
from mill_lane.demo import shapes
from tests.scenes import WHITE, floor, picture, scene_of, small_demo

CPU = Device(name="cpu", kind="cpu", memory_bytes=10**10, threads=2)


class TestDistances(unittest.TestCase):
    def test_boxes(self) -> None:
        lo, hi = np.array([[0.0, 0, 0]]), np.array([[1.0, 1, 1]])
        for p, want in (
            ((0.5, 0.5, 0.5), 0.0),
            ((3, 0.5, 0.5), 2.0),
            ((2, 2, 0.5), math.sqrt(2)),
            ((-1, -1, -1), math.sqrt(3)),
        ):
            self.assertAlmostEqual(float(box_distance(np.array([p], float), lo, hi)[0, 0]), want)

    @given(st.lists(st.floats(-5, 5), min_size=9, max_size=9))
    def test_never_longer_than_to_any_point_of_the_box(self, x: list[float]) -> None:
        p, a, b = np.array(x[:3]), np.array(x[3:6]), np.array(x[6:])
        lo, hi = np.minimum(a, b), np.maximum(a, b)
        got = float(box_distance(p[None], lo[None], hi[None])[0, 0])
        for t in np.random.default_rng(0).random((20, 3)):
            self.assertLessEqual(got, float(np.linalg.norm(lo + t * (hi - lo) - p)) + 1e-9)

    def moving(self) -> Scene:
        """A camera that walks from 12 m to 2 m before a ball of radius 1 in frames 1 to 11."""
        walk = Channel(
            "translation", "LINEAR", np.array([0.0, 10 / 24]), np.array([[0.0, 0, 13], [0, 0, 3]])
        )
        scene = scene_of(
            (shapes.ball(1.0, 16), WHITE),
            (shapes.moved(shapes.ball(1.0, 16), (0, 0, 40)), WHITE),
            frames=(1, 11),
        )
        camera = Node("camera", camera=0, channels=(walk,))
        return replace(scene, nodes=(*scene.nodes[:2], camera))

    def test_nearest_over_the_frames(self) -> None:
        rows = weigh(self.moving()).meshes
        self.assertAlmostEqual(rows[0].nearest_m or 0, 2.0, places=4)
        self.assertEqual(rows[0].nearest_frame, 11)
        self.assertAlmostEqual(rows[1].nearest_m or 0, 26.0, places=4)
        self.assertEqual(rows[1].nearest_frame, 1)

    def test_in_view_or_behind(self) -> None:
        rows = weigh(self.moving()).meshes
        self.assertEqual([r.in_view for r in rows], [True, False])

    def test_frames_are_spread_with_both_ends(self) -> None:
        self.assertEqual(frames_looked_at((5, 8)), [5, 6, 7, 8])
        many = frames_looked_at((1, 10_000))
        self.assertEqual((many[0], many[-1], len(many)), (1, 10_000, 240))


class TestCounts(unittest.TestCase):
    def test_the_demo(self) -> None:
        scene = open_scene(small_demo())
        i = weigh(scene)
        self.assertEqual(i.unique_triangles, sum(m.triangles for m in scene.meshes))
        self.assertGreater(i.triangles, i.unique_triangles)
        self.assertEqual(i.instances, len(scene.instances))
        self.assertEqual(sum(x.kind == "point" for x in i.lights), 24)
        duplicates = [m for m in i.meshes if m.duplicate_of is not None]
        self.assertEqual(
            sum(not m.duplicate_baked for m in duplicates), 42
        )  # 48 loaves and rolls of six originals
        self.assertEqual(
            {m.name for m in duplicates if m.duplicate_baked}, {"wall_right", "wall_behind"}
        )  # the left wall, turned
        self.assertTrue(
            all(
                m.name.split("_")[0] == i.meshes[m.duplicate_of].name.split("_")[0]
                for m in duplicates
                if m.duplicate_of is not None
            )
        )
        self.assertIn("store_shelving", [m.name for m in i.meshes if not m.in_view])
        self.assertEqual(sum(t.bits == 16 for t in i.textures), 2)
        self.assertEqual((i.frames, i.media), ((1, 96), 1))

    def test_near_misses_are_no_twins(self) -> None:
        a = shapes.ball(1.0, 12)
        moved = a.positions.copy()
        moved[7] += 0.001
        b = replace(a, positions=moved)
        meshes = tuple(Mesh(n, (part_of(g, 0),)) for n, g in (("a", a), ("same", a), ("moved", b)))
        scene = Scene(
            "t",
            nodes=(*(Node(m.name, mesh=i) for i, m in enumerate(meshes)), Node("c", camera=0)),
            meshes=meshes,
            materials=(Material(),),
            cameras=(Camera("c", 1.0),),
        )
        self.assertEqual([m.duplicate_of for m in weigh(scene).meshes], [None, 0, None])

    def test_power_of_a_glowing_ball(self) -> None:
        """pi L A, with the area of the mesh itself."""
        lamp = Material("l", emissive=(2.0, 2.0, 2.0))
        row = weigh(scene_of((shapes.ball(0.5, 64), lamp))).lights[0]
        self.assertAlmostEqual(row.power / (math.pi * 2.0 * 4 * math.pi * 0.25), 1.0, delta=5e-3)

    def test_no_such_camera(self) -> None:
        with self.assertRaises(MillError):
            weigh(open_scene(small_demo()), camera="nobody")

    def test_hull(self) -> None:
        square = hull(np.array([[0, 0], [1, 0], [1, 1], [0, 1], [0.5, 0.5], [1, 0.5]], float))
        self.assertEqual(set(square), {(0, 0), (1, 0), (1, 1), (0, 1)})


class TestLedger(unittest.TestCase):
    def test_figures_are_the_arrays_own(self) -> None:
        """Every kind against nbytes of what the renderer allocates for the demo."""
        scene = open_scene(small_demo())
        whole = draw_up(weigh(scene), FINAL, CPU)
        ledger, placed = (
            whole.by_kind(),
            next(s.bytes for s in whole.steps if s.name == "instances"),
        )
        loaded = load(scene, 2)
        self.assertEqual(ledger["geometry"] - placed, loaded.held["geometry"])
        self.assertEqual(ledger["textures"], loaded.held["textures"])
        # Estimated from a count of nodes a triangle; small meshes vary most.
        self.assertAlmostEqual(ledger["acceleration"] / loaded.held["acceleration"], 1.0, delta=0.1)
        film = new_film(FINAL.width, FINAL.height, FINAL.layers)
        sums = dict(film_steps(FINAL.width, FINAL.height, FINAL.layers, 0))
        del sums["measuring the noise, or writing"]
        self.assertEqual(sum(sums.values()), sum(p.nbytes for p in film.planes().values()))

    def test_the_step_that_fails(self) -> None:
        ledger = Ledger(
            (
                Step("geometry", "a", 5),
                Step("textures", "first", 10),
                Step("textures", "second", 10),
                Step("film", "beauty", 5),
            )
        )
        self.assertTrue(judge(ledger, 30).fits)
        beside = Ledger(ledger.steps, process=5)
        self.assertFalse(judge(beside, 34).fits)
        self.assertEqual((judge(beside, 35).headroom, judge(beside, 35).needed), (0, 35))
        self.assertEqual(judge(ledger, 30).headroom, 0)
        v = judge(ledger, 24)
        self.assertEqual((v.fits, v.number, v.of, v.headroom), (False, 2, 2, -6))
        self.assertEqual(
            v.sentence(), "It would fail while loading textures, number 2 of 2: second."
        )
        self.assertIn("making room for the picture", judge(ledger, 29).sentence())

    def test_a_smaller_picture_needs_less(self) -> None:
        i = weigh(open_scene(small_demo()))
        small, large = (draw_up(i, FINAL, DEMO_CARD, s).total for s in ((480, 270), (1920, 1080)))
        self.assertEqual((large - small) % (1920 * 1080 - 480 * 270), 0)
        self.assertLess(small, large)

    def test_refusal_names_the_step(self) -> None:
        i = weigh(open_scene(small_demo()))
        tight = DEMO_CARD.model_copy(update={"memory_bytes": 10**9 + 2_500_000})
        with self.assertRaises(MillError) as caught:
            check_fits(i, FINAL, tight, (16, 16))
        self.assertIn("acceleration", caught.exception.message)

    def test_devices(self) -> None:
        self.assertEqual(DEMO_CARD.free_bytes, 3 * 10**9)
        cpu = cpu_device(find_machine())
        # What is kept for others and what they hold now: the larger of both is not ours.
        for held, free in ((0, 6), (4, 4), (9, 0)):
            own = Device(
                name="a",
                kind="cpu",
                memory_bytes=8 * GB,
                desktop_bytes=2 * GB,
                held_bytes=held * GB,
            )
            self.assertEqual(own.free_bytes, free * GB)
            self.assertNotIn("held_bytes", own.model_dump(mode="json"))
        now = as_it_is_now(cpu)
        self.assertLessEqual(now.free_bytes, cpu.free_bytes)
        self.assertLess(now.held_bytes, cpu.memory_bytes)
        self.assertEqual(
            cpu.render_threads, max(1, cpu.threads - 1)
        )  # one thread is kept free: common practice
        with self.assertRaises(ValueError):
            Device(name="x", kind="card", memory_bytes=10**9, desktop_bytes=10**9)


class TestDistanceRule(unittest.TestCase):
    """Common practice: nearer than 3 m 4096 px, 3 to 10 m 2048 px, farther 1024 or 512 px."""

    def test_at_and_around_the_borders(self) -> None:
        for distance, px in (
            (0, 4096),
            (2.999, 4096),
            (3.0, 2048),
            (9.999, 2048),
            (10.0, 2048),
            (10.001, 1024),
            (29.9, 1024),
            (30.0, 512),
            (500, 512),
        ):
            self.assertEqual(side_limit(distance), px, distance)

    @given(st.floats(0, 1000), st.floats(0, 1000))
    def test_farther_is_never_larger(self, a: float, b: float) -> None:
        self.assertLessEqual(side_limit(max(a, b)), side_limit(min(a, b)))

    def test_halvings(self) -> None:
        self.assertEqual(
            [
                halvings(4096, 4096, 2048),
                halvings(4096, 1024, 512),
                halvings(512, 512, 4096),
                halvings(3000, 10, 2048),
            ],
            [1, 3, 0, 1],
        )

    def far_and_near(self) -> Scene:
        """The same kind of texture on a floor 1 m, 5 m and 40 m away."""
        m = [replace(WHITE, name=str(i), base_texture=TextureUse(i)) for i in range(3)]
        things = [(floor(1.0, -d), m[i]) for i, d in enumerate((1.0, 5.0, 40.0))]
        scene = scene_of(*things, eye=(0, 0, 0), at=(0, -1, 0), up=(0, 0, -1))
        images = tuple(replace(picture(8, name=f"i{i}"), width=4096, height=4096) for i in range(3))
        return replace(scene, images=images, textures=tuple(Texture(f"t{i}", i) for i in range(3)))

    def test_proposals(self) -> None:
        trim = TRIMS["texture_size"]
        scene = self.far_and_near()
        proposals = trim.propose(lambda: scene, weigh(scene), parameters_of(trim, {}))
        self.assertEqual(
            [(p.target.key, p.after) for p in proposals],
            [("image:2", [512, 512]), ("image:1", [2048, 2048])],
        )
        self.assertEqual(proposals[0].memory_before_bytes, 67108863)
        self.assertEqual(proposals[1].memory_saved_bytes, 67108863 - 16777215)

    def test_shrinking_makes_the_renderers_own_level(self) -> None:
        scene = open_scene(small_demo())
        index = next(i for i, x in enumerate(scene.images) if x.name == "label_rye")
        smaller, changes = shrink(scene, {index: 16})
        self.assertEqual((changes[0].old, changes[0].new), ((64, 64), (16, 16)))
        self.assertEqual(smaller.images[index].file_bytes, changes[0].new_file_bytes)
        self.assertIs(smaller.images[0], scene.images[0])
        before, after = load(scene, 1), load(smaller, 1)
        self.assertEqual(
            before.held["textures"] - after.held["textures"],
            changes[0].old_bytes - changes[0].new_bytes,
        )
        row, new = (
            next(r for r in x.textures.table if r[2] == w and _name(x, r) == "label_rye")
            for x, w in ((before, 64), (after, 16))
        )
        old_level = int(before.textures.levels[row[1] + 2, 0])  # two halvings down
        new_level = int(after.textures.levels[new[1], 0])
        np.testing.assert_array_equal(
            before.textures.narrow[old_level : old_level + 3 * 256],
            after.textures.narrow[new_level : new_level + 3 * 256],
        )

    def test_nothing_to_do(self) -> None:
        scene = open_scene(small_demo())
        same, changes = shrink(scene, {0: 4096})
        self.assertEqual((changes, same.images), ([], scene.images))


def _name(loaded: object, row: np.ndarray) -> str:
    from mill_lane.core.render.sizes import loading_order

    scene, table = loaded.scene, loaded.textures.table  # type: ignore[attr-defined]
    k = next(i for i, r in enumerate(table) if r is row or (r == row).all())
    return str(scene.images[scene.textures[loading_order(scene)[k][0]].image].name)


class TestEstimate(unittest.TestCase):
    def test_pixels_and_samples(self) -> None:
        """Twice the samples on four times the pixels take eight times as long."""
        trial = Recipe(width=480, height=270, samples=8, min_samples=1, bounces=4)
        final = Recipe(width=960, height=540, samples=16, min_samples=1, bounces=4)
        e = predict(final, trial, 10.0, 8.0, 480 * 270, "trial 1")
        assert e is not None
        self.assertAlmostEqual(e.seconds, 80.0)
        self.assertAlmostEqual(e.margin, 8.0)

    def test_a_crop_is_less_sure_than_the_whole(self) -> None:
        trial = Recipe(width=480, height=270, bounces=4)
        crop, whole = (
            predict(trial, trial, 1, 4, 1000, "a"),
            predict(trial, trial, 1, 4, 480 * 270, "b"),
        )
        assert crop is not None
        assert whole is not None
        self.assertGreater(crop.margin / crop.seconds, whole.margin / whole.seconds)

    def test_frames_of_three_minutes(self) -> None:
        """160 frames at 3 minutes are 8 hours (common practice)."""
        r = Recipe(width=100, height=100, samples=1, min_samples=1)
        e = predict(r, r, 180.0, 1.0, 10_000, "t")
        assert e is not None
        self.assertAlmostEqual(160 * e.seconds / 3600, 8.0)

    def test_nothing_measured(self) -> None:
        self.assertIsNone(predict(FINAL, FINAL, 0.0, 4, 100, "t"))
