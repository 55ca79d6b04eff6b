"""Looking closely:

texel need, seen or not, overlapping layers, true distances, what pictures hold, what lamps give.
"""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import encode
from mill_lane.core.progress import Cancelled
from mill_lane.core.render.load import camera_track, load, pose
from mill_lane.core.scene.model import (
    Channel,
    Geometry,
    Image,
    Light,
    Material,
    Node,
    Scene,
    Texture,
    TextureUse,
)
from mill_lane.core.weigh.analysis import Analysis, MeshRow, TextureRow
from mill_lane.core.weigh.full import weigh_full
from mill_lane.core.weigh.hits import Hits, Rays, camera_rays, meet, reflected, refracted
from mill_lane.core.weigh.images import inspect_image, used_bits, used_channels
from mill_lane.core.weigh.lighting import light_view, reach
from mill_lane.core.weigh.measure import weigh
from mill_lane.core.weigh.visibility import (
    LIGHTS,
    NEVER,
    REFLECTED,
    SEEN,
    Observer,
    View,
    observe,
    spread,
)
from mill_lane.demo import shapes
from mill_lane.demo.bakery import encoded
from tests.scenes import WHITE, even_sky, floor, looking, picture, scene_of, small_demo

HEIGHT = 1080
MIRROR = Material("mirror", (1, 1, 1, 1), metallic=1.0, roughness=0.0)
TEXTURED = Material("print", (1, 1, 1, 1), metallic=0.0, base_texture=TextureUse(0))


def upright(width: float = 2.0, z: float = 0.0, turn: float = 0.0) -> Geometry:
    """A square facing +Z, turned about the Y axis."""
    c, s = math.cos(turn), math.sin(turn)
    along = np.array([width * c, 0, -width * s])
    return shapes.sheet(np.array([0, -width / 2, z]) - along / 2, along, np.array([0, width, 0]))


def seen_by(scene: Scene, wide: int = 64) -> View:
    return observe(Observer(load(scene, 1), 1.0, HEIGHT, wide=wide))


def with_print(scene: Scene, **more: object) -> Scene:
    return replace(scene, images=(picture(8),), textures=(Texture("print", 0),), **more)  # type: ignore[arg-type]


class TestTexelNeed(unittest.TestCase):
    """A plane before a pinhole:

    texels a pixel = texture size x pixel footprint / plane size (closed form).
    """

    pixel = 2 * math.tan(0.3) / HEIGHT  # of `scene_of`'s camera, at one metre

    def need(self, scene: Scene) -> tuple[float, float]:
        return seen_by(scene).needs[0]

    def test_facing(self) -> None:
        for distance in (2.5, 5.0, 20.0):
            scene = with_print(scene_of((upright(), TEXTURED), eye=(0, 0, distance)))
            want = 2.0 / (self.pixel * distance)
            np.testing.assert_allclose(self.need(scene), (want, want), rtol=1e-4)

    def test_tilted_by_60_degrees_half_across(self) -> None:
        scene = with_print(scene_of((upright(0.05, turn=math.pi / 3), TEXTURED), yfov=0.02))
        across, down = self.need(scene)
        pixel = 2 * math.tan(0.01) / HEIGHT * 5
        self.assertAlmostEqual(across / (0.05 / pixel / 2), 1, delta=0.02)
        self.assertAlmostEqual(down / (0.05 / pixel), 1, delta=0.02)

    def test_repeated_four_times_a_quarter(self) -> None:
        use = TextureUse(0, scale=(4.0, 1.0), rotation=0.0)
        scene = with_print(scene_of((upright(), replace(TEXTURED, base_texture=use))))
        across, down = self.need(scene)
        self.assertAlmostEqual(across * 4, down, delta=0.001 * down)

    def test_a_flat_mirror_counts_the_whole_way(self) -> None:
        back = shapes.sheet(np.array([1.5, -1, 8.0]), np.array([-3.0, 0, 0]), np.array([0, 2, 0]))
        scene = with_print(scene_of((upright(4), MIRROR), (back, TEXTURED), eye=(0, 0, 5)))
        view = seen_by(scene)
        self.assertEqual(list(view.best), [SEEN, REFLECTED])
        # 5 m to the mirror and 8 m back.
        np.testing.assert_allclose(
            view.needs[0], (3.0 / (self.pixel * 13), 2.0 / (self.pixel * 13)), rtol=1e-3
        )

    def test_nothing_beyond_the_98th_percentile(self) -> None:
        """Two prints of one picture, the nearer over 1 % of the places: the farther one decides."""
        near = upright(0.02, z=4.0)
        scene = with_print(scene_of((upright(3.2), TEXTURED), (near, TEXTURED)))
        self.assertAlmostEqual(self.need(scene)[0] / (3.2 / (self.pixel * 5)), 1, delta=0.01)

    def differences(self, scene: Scene, follow: object) -> None:
        """Differentials after a bend against rays that are really shot one pixel away."""
        world = pose(load(scene, 1), 0.0)
        track, _ = camera_track(scene, 0.0, 0.0, HEIGHT, HEIGHT)
        x, y = np.array([530.0, 560.0, 500.0]), np.array([540.0, 520.0, 585.0])
        step = 0.05

        def ends(dx: float, dy: float) -> Hits:
            rays = camera_rays(track[:12], x + dx, y + dy, HEIGHT, HEIGHT)
            for _ in range(2 if follow is refracted else 1):
                hits = meet(world, rays)
                every = np.arange(len(x))
                rays = self.bent(follow, rays, hits, every)
            return meet(world, rays)

        middle = ends(0, 0)
        for k, (dx, dy) in enumerate(((step, 0.0), (0.0, step))):
            found = (ends(dx, dy).p - ends(-dx, -dy).p) / (2 * step)
            scale = np.linalg.norm(found, axis=1, keepdims=True)
            np.testing.assert_allclose(middle.dp[:, k] / scale, found / scale, atol=0.06)

    @staticmethod
    def bent(follow: object, rays: Rays, hits: Hits, every: np.ndarray) -> Rays:
        if follow is refracted:
            return refracted(rays, hits, every, np.where(hits.front, 1 / 1.5, 1.5))
        return reflected(rays, hits, every)

    def test_round_mirrors_and_glass_balls(self) -> None:
        wall = upright(400, z=-20)
        behind = shapes.sheet(
            np.array([200.0, -200, 30]), np.array([-400.0, 0, 0]), np.array([0, 400.0, 0])
        )
        self.differences(scene_of((shapes.ball(1.0, 400), MIRROR), (behind, WHITE)), reflected)
        self.differences(scene_of((shapes.ball(1.0, 400), WHITE), (wall, WHITE)), refracted)


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
        return seen_by(replace(scene_of(*things, (upright(9, z=-3), WHITE)), **more))  # type: ignore[arg-type]

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


class TestPictures(unittest.TestCase):
    def test_channels(self) -> None:
        rng = np.random.default_rng(1)
        colour = rng.integers(0, 256, (32, 32, 4), dtype=np.uint8)
        solid = np.concatenate([colour[..., :3], np.full((32, 32, 1), 255, np.uint8)], 2)
        grey = np.repeat(colour[..., :1], 3, 2)
        for pixels, want in (
            (colour, 4),
            (solid, 3),
            (grey, 1),
            (np.concatenate([grey, colour[..., 3:]], 2), 2),
            (colour[..., :2], 2),
        ):
            self.assertEqual(used_channels(pixels)[0], want)
        almost = grey.copy()
        almost[17, 23, 1] ^= 1
        self.assertEqual((used_channels(almost)[0], used_channels(almost, near=3)[0]), (3, 1))

    def test_bits(self) -> None:
        low = np.random.default_rng(2).integers(0, 256, (40, 40, 1)).astype(np.uint16)
        self.assertEqual(
            [used_bits(x) for x in (low * 257, low * 256, low.astype(np.uint8))], [8, 8, 8]
        )
        one = low * 257
        one[39, 3] += 1
        self.assertEqual(used_bits(one), 16)

    def test_the_same_picture_twice(self) -> None:
        """Once as a PNG, once as another PNG of the same pixels:

        the files differ, the pixels do not.
        """
        a = picture(16)
        pixels = np.random.default_rng(3).integers(0, 255, (16, 16, 3)).astype(np.uint8)
        b = Image(
            "again", "image/png", 16, 16, 3, 8, 0, lambda: encode(pixels, "image/png") + b"\0"
        )
        self.assertEqual(inspect_image(a).digest, inspect_image(b).digest)
        self.assertNotEqual(inspect_image(a).digest, inspect_image(picture(8)).digest)

    def row(self, width: int, height: int, need: tuple[float, float] | None) -> TextureRow:
        return TextureRow(
            index=0,
            name="t",
            width=width,
            height=height,
            channels=3,
            bits=8,
            mime="image/png",
            file_bytes=1,
            memory_bytes=4 * width * height,
            role="base colour",
            nearest_m=1.0,
            in_view=True,
            missing=False,
            texel_need=need,
        )

    @given(st.integers(1, 14), st.integers(1, 14), st.floats(0.5, 9000), st.floats(0.5, 9000))
    @settings(max_examples=200)
    def test_halving_never_goes_below_the_need(self, w: int, h: int, a: float, b: float) -> None:
        row = self.row(2**w, 2**h, (a, b))
        n = row.halvings()
        if n:
            self.assertGreaterEqual(min((row.width >> n) / a, (row.height >> n) / b), 1)
        self.assertLess(min((row.width >> (n + 1)) / a, (row.height >> (n + 1)) / b), 1)
        self.assertGreaterEqual(row.wasted_bytes(), 0)
        self.assertEqual(self.row(2**w, 2**h, None).halvings(), 0)


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
        self.assertAlmostEqual(sum(x.share or 0 for x in found.lights), 1, delta=0.3)
        self.assertTrue(next(x for x in found.lights if x.name == "bare_bulb").noisy)
        # What was found is kept as JSON with the scene version.
        self.assertEqual(Analysis.model_validate_json(found.model_dump_json()), found)

    def test_it_stops_when_asked(self) -> None:
        for after in (0.1, 0.5, 0.8, 0.95):

            def tell(share: float, text: str, after: float = after) -> None:
                if share > after:
                    raise Cancelled

            with self.assertRaises(Cancelled):
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

    def test_levels_of_subdivision(self) -> None:
        """A cube:

        6 quads make 24 and 96 (Catmull-Clark: every face times its corners, then times 4).
        """
        row = weigh(scene_of((shapes.box((1, 1, 1)), WHITE))).meshes[0]
        cage = MeshRow.model_validate(row.model_dump() | {"subdivision": ("catmullClark", 24, 12)})
        self.assertEqual([cage.at_level(n) for n in range(4)], [12, 48, 192, 768])
        loop = MeshRow.model_validate(row.model_dump() | {"subdivision": ("loop", 36, 12)})
        self.assertEqual([loop.at_level(n) for n in range(3)], [12, 48, 192])
        self.assertIsNone(row.at_level(2))
