"""Looking closely:

texel need, seen or not, overlapping layers, true distances, what pictures hold, what lamps give.
"""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import encode
from mill_lane.core.progress import Cancelled
from mill_lane.core.render.load import load
from mill_lane.core.scene.model import (
    Channel,
    Image,
    Light,
    Material,
    Node,
    Texture,
    TextureUse,
)
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.full import weigh_full
from mill_lane.core.weigh.lighting import light_view, reach
from mill_lane.core.weigh.measure import weigh
from mill_lane.core.weigh.observe import spread
from mill_lane.core.weigh.visibility import LIGHTS, NEVER, REFLECTED, SEEN, View
from mill_lane.demo import shapes
from mill_lane.demo.bakery import encoded
from tests.coarse import coarsely
from tests.scenes import WHITE, even_sky, floor, looking, scene_of, small_demo
from tests.weigh.prints import MIRROR, TEXTURED, seen_by, upright
from tests.weigh.test_texel_need import TestTexelNeed


class TestSeenOrNot(unittest.TestCase):
    def test_each_class(self) -> None:
        """A floor under a sun:

        a ball on it, one above the picture that shadows it, one only in a mirror, one boxed in.
        """
        ball = shapes.ball(0.3, 24)
        mirror = shapes.sheet(
            np.array([-1.0, 0, -2.0]), np.array([2.0, 0, 0]), np.array([0, 2.0, 0])
        )
        things = (
            (floor(12), WHITE),
            (shapes.moved(ball, (0.5, 0.3, 0)), WHITE),
            (mirror, MIRROR),
            (shapes.moved(ball, (0, 1.2, 12)), WHITE),  # behind the camera, before the mirror
            (shapes.moved(ball, (-1.5, 5.0, 0)), WHITE),  # above the picture
            (shapes.moved(ball, (60, 0, 60)), WHITE),  # in a box
            (shapes.moved(shapes.box((2, 2, 2)), (60, 0, 60)), WHITE),
        )
        sun = (Light("sun", "directional", (1, 1, 1), 3.0), looking((0, 10, 0.001), (0, 0, 0)))
        scene = scene_of(*things, eye=(0, 1, 5), at=(0, 0.8, 0), lights=(sun,))
        best = list(seen_by(scene, 128).best)
        self.assertEqual(best[:6], [SEEN, SEEN, SEEN, REFLECTED, LIGHTS, NEVER])
        self.assertEqual(
            [m.behind for m in weigh(scene).meshes], [False, False, False, True, False, True, True]
        )

    def test_share_of_the_picture(self) -> None:
        """A square of 1 m at 5 m fills (1 / (10 tan 0.3))^2 of a square picture."""
        view = seen_by(scene_of((upright(1.0), WHITE)), 128)
        self.assertAlmostEqual(float(view.most[0]), (1 / (10 * math.tan(0.3))) ** 2, delta=0.005)

    def test_only_in_some_frames(self) -> None:
        turn = Channel(
            "rotation",
            "LINEAR",
            np.array([0.0, 10 / 24]),
            np.array([[0.0, 0, 0, 1], [0, math.sin(0.6), 0, math.cos(0.6)]]),
        )
        scene = scene_of(
            (upright(), WHITE),
            (shapes.moved(shapes.ball(0.3, 16), (-4.0, 0, 3.5)), WHITE),
            frames=(1, 11),
        )
        nodes = tuple(
            Node("camera", translation=(0, 0, 5.0), camera=0, channels=(turn,))
            if n.camera >= 0
            else n
            for n in scene.nodes
        )
        view = seen_by(replace(scene, nodes=nodes))
        self.assertEqual(list(view.best), [SEEN, SEEN])
        self.assertGreater(int(view.where[1]), int(view.where[0]))

    def test_a_scene_without_anything_to_hit(self) -> None:
        view = seen_by(scene_of((shapes.moved(upright(), (0, 0, 50)), WHITE)))
        self.assertEqual((list(view.best), view.transparency_depth, view.needs), ([NEVER], 0, {}))

    def test_frames_are_spread(self) -> None:
        self.assertEqual(spread((5, 5)), [[5]])
        rounds = spread((1, 97))
        self.assertEqual(rounds[:2], [[1, 49, 97], [25, 73]])
        every = [f for r in rounds for f in r]
        self.assertEqual((len(every), len(set(every))), (33, 33))

    @given(st.integers(-50, 50), st.integers(0, 300))
    def test_any_range_is_covered_once(self, first: int, more: int) -> None:
        every = [f for r in spread((first, first + more)) for f in r]
        self.assertEqual(len(every), len(set(every)))
        self.assertEqual(len(every), min(more + 1, 33))
        self.assertEqual({first, first + more} - set(every), set())


class TestOverlap(unittest.TestCase):
    def stack(self, n: int, material: Material, **more: object) -> View:
        things = [(shapes.moved(upright(4), (0, 0, -0.1 * k)), material) for k in range(n)]
        return seen_by(replace(scene_of(*things, (upright(9, z=-3), WHITE)), **more))

    def test_panes_are_counted(self) -> None:
        for material in (
            Material("veil", (1, 1, 1, 0.5), 0.0, alpha_mode="BLEND"),
            Material("hole", (1, 1, 1, 0.2), 0.0, alpha_mode="MASK", alpha_cutoff=0.5),
            Material("pane", (1, 1, 1, 1), 0.0, 0.0, transmission=1.0),
        ):
            for n in (0, 1, 7):
                with self.subTest(material.name, n=n):
                    view = self.stack(n, material)
                    self.assertEqual(
                        (
                            view.transparency_depth,
                            view.transparency_depth_p99,
                            int(view.overlap.max()),
                        ),
                        (n, n, n),
                    )

    def test_leaves_stop_a_ray_and_their_gaps_do_not(self) -> None:
        """A picture whose left half is a hole: the right half shows nothing behind it."""
        pixels = np.full((8, 8, 4), 255, np.uint8)
        pixels[:, :4, 3] = 0
        image = encoded("half", "image/png", 8, 4, 8, encode(pixels, "image/png"))
        half = Material("half", (1, 1, 1, 1), 0.0, alpha_mode="MASK", base_texture=TextureUse(0))
        view = self.stack(3, half, images=(image,), textures=(Texture("half", 0),))
        self.assertEqual(view.transparency_depth, 3)
        columns = view.overlap.mean(0)
        self.assertEqual((columns[:28].min(), columns[36:].max()), (3.0, 0.0))


class TestTrueDistances(unittest.TestCase):
    def test_against_trimesh(self) -> None:
        """The closest point of a placed, stretched mesh over a walk, as trimesh finds it."""
        ball = shapes.ball(0.7, 20)
        matrix = np.eye(4)
        matrix[:3, :3] = looking((1, 2, 3), (0, 0, 0))[:3, :3] @ np.diag([2.0, 0.5, 1.0])
        matrix[:3, 3] = (1.0, 0.3, -4.0)
        walk = Channel(
            "translation", "LINEAR", np.array([0.0, 1.0]), np.array([[-3.0, 2, 3], [4, 1, -2.5]])
        )
        scene = scene_of((ball, WHITE), frames=(1, 25))
        scene = replace(
            scene,
            nodes=(Node("ball", mesh=0, matrix=matrix), Node("camera", camera=0, channels=(walk,))),
        )
        row = weigh(scene, exact=True).meshes[0]
        body = trimesh.Trimesh(
            ball.positions.astype(float) @ matrix[:3, :3].T + matrix[:3, 3],
            ball.triangles,
            process=False,
        )
        path = np.array([[-3.0, 2, 3]]) + np.arange(25)[:, None] / 24 * np.array([[7.0, -1, -5.5]])
        _, distance, _ = trimesh.proximity.closest_point_naive(body, path)
        self.assertAlmostEqual(row.nearest_m or 0, float(distance.min()), places=5)
        self.assertEqual(row.nearest_frame, 1 + int(distance.argmin()))
        # Boxes never tell more than there is.
        self.assertLessEqual(weigh(scene).meshes[0].nearest_m or 0, (row.nearest_m or 0) + 1e-9)

    def test_things_that_move_are_asked_frame_by_frame(self) -> None:
        move = Channel(
            "translation", "LINEAR", np.array([0.0, 1.0]), np.array([[0.0, 0, -9], [0, 0, 3.0]])
        )
        scene = scene_of((shapes.ball(0.5, 32), WHITE), frames=(1, 25))
        scene = replace(scene, nodes=(Node("ball", mesh=0, channels=(move,)), *scene.nodes[1:]))
        row = weigh(scene, exact=True).meshes[0]
        self.assertEqual(row.nearest_frame, 25)
        self.assertAlmostEqual(row.nearest_m or 0, 1.5, places=2)

    def test_edges_in_pixels(self) -> None:
        """A square of 2 m in 10 x 10 cells at 5 m: two edges of 0.2 m to one diagonal."""
        g = shapes.sheet(
            np.array([-1.0, -1, 0]), np.array([2.0, 0, 0]), np.array([0, 2.0, 0]), (10, 10)
        )
        row = weigh(scene_of((g, WHITE)), aspect=1.0, exact=True).meshes[0]
        self.assertAlmostEqual((row.edge_px or 0) / (0.2 / (TestTexelNeed.pixel * 5)), 1, places=3)


class TestLamps(unittest.TestCase):
    def test_shares_of_two_lamps(self) -> None:
        """Two lamps at one place, one three times as strong:

        three quarters and one quarter of the light.
        """
        at = looking((0, 2, 0.001), (0, 0, 0))
        lamps = tuple(
            (Light(n, "point", (1, 1, 1), i), at) for n, i in (("strong", 30.0), ("weak", 10.0))
        )
        lit = light_view(
            load(scene_of((floor(8), WHITE), eye=(0, 3, 4), lights=lamps), 1), [1], 1.0, 1
        )
        assert lit.shares is not None
        self.assertAlmostEqual(lit.shares["strong"], 0.75, delta=0.02)
        self.assertAlmostEqual(sum(lit.shares.values()), 1, delta=0.01)

    def test_reach(self) -> None:
        """A white matt surface at the reach gives 1 % of the mean: L = E / pi, E = I / d^2."""
        d = reach(40.0, 0.5)
        assert d is not None
        self.assertAlmostEqual(40.0 / d**2 / math.pi, 0.01 * 0.5)
        self.assertIsNone(reach(0.0, 0.5))

    def test_what_is_brighter_than_white(self) -> None:
        glow = Material("glow", (0, 0, 0, 1), 0.0, 1.0, emissive=(3.0, 3.0, 3.0))
        dim = Material("dim", (0, 0, 0, 1), 0.0, 1.0, emissive=(0.9, 0.9, 0.9))
        things = (
            (shapes.moved(upright(1), (-0.7, 0, 0)), glow),
            (shapes.moved(upright(1), (0.7, 0, 0)), dim),
        )
        lit = light_view(load(scene_of(*things), 1), [1], 1.0, 1)
        self.assertEqual([t for t, _ in lit.blown], [0])
        self.assertAlmostEqual(lit.blown[0][1], (1 / (10 * math.tan(0.3))) ** 2, delta=0.01)


class TestInFull(unittest.TestCase):
    def test_the_bakery(self) -> None:
        stages: list[Analysis] = []
        told: list[float] = []
        scene = open_scene(small_demo())
        found = weigh_full(
            scene, threads=2, progress=lambda share, text: told.append(share), ready=stages.append
        )
        self.assertEqual([i.stage for i in stages] + [found.stage], [1, 2, 3, 4])
        self.assertEqual(told, sorted(told))
        meshes = {m.name: m for m in found.meshes}
        self.assertEqual(
            (meshes["counter"].seen, meshes["store_shelving"].seen), ("camera", "reflection")
        )
        self.assertGreater(meshes["counter"].share or 0, 0.2)
        textures = {t.name: t for t in found.textures}
        self.assertEqual((textures["bark_normal"].bits, textures["bark_normal"].bits_used), (16, 8))
        assert found.visibility is not None
        self.assertGreater(found.visibility.transparency_depth, 2)
        # Every light's share, with that of the sky, is all the light there is.
        sky = found.visibility.sky_share or 0
        self.assertGreater(sky, 0.01)
        self.assertAlmostEqual(sum(x.share or 0 for x in found.lights) + sky, 1, delta=1e-5)
        self.assertTrue(next(x for x in found.lights if x.name == "bare_bulb").noisy)
        # What was found is kept as JSON with the scene version.
        self.assertEqual(Analysis.model_validate_json(found.model_dump_json()), found)

    def test_it_stops_when_asked(self) -> None:
        for after in (0.1, 0.5, 0.8, 0.95):

            def tell(share: float, text: str, after: float = after) -> None:
                if share > after:
                    raise Cancelled

            with coarsely(), self.assertRaises(Cancelled):
                weigh_full(open_scene(small_demo()), progress=tell)

    def test_a_crowd_is_weighed_whole_and_drawn_in_part(self) -> None:
        """Five thousand copies and one large thing: all are counted, the plan keeps the largest."""
        base = scene_of(
            (shapes.ball(0.2, 8), WHITE), (floor(40), WHITE), eye=(0, 2, 5), environment=even_sky()
        )
        crowd = tuple(
            Node(f"n{i}", mesh=0, translation=(0.5 * (i % 80) - 20, 0.2, -0.5 * (i // 80)))
            for i in range(5000)
        )
        found = weigh_full(replace(base, nodes=(*crowd, *base.nodes[1:])), aspect=1.0)
        self.assertEqual(
            (found.instances, len(found.outlines), found.outlines_left_out), (5001, 3000, 2001)
        )
        self.assertIn("thing 1", {f.name for f in found.outlines})
        self.assertEqual({f.seen for f in found.outlines if f.name == "thing 1"}, {"camera"})
        self.assertEqual([m.seen for m in found.meshes], ["camera", "camera"])

    def test_a_picture_that_cannot_be_decoded(self) -> None:
        broken = Image("broken", "image/png", 8, 8, 3, 8, 4, lambda: b"\x89PNG")
        scene = replace(
            scene_of((upright(), TEXTURED), environment=even_sky()),
            images=(broken,),
            textures=(Texture("t", 0),),
        )
        found = weigh_full(scene, aspect=1.0)
        self.assertEqual((found.stage, found.textures[0].why), (4, "cannot be decoded"))
