"""Ray hits against embreex, and the places where they are easily wrong."""

from __future__ import annotations

import subprocess
import unittest
from pathlib import Path

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from mill_lane.core.render import plain, vectors
from mill_lane.core.render.build import build_mesh
from mill_lane.core.render.jit import lean
from mill_lane.core.render.load import load
from mill_lane.core.render.mesh_rays import sheared
from mill_lane.core.render.pointers import f32_at, i64_at
from mill_lane.core.render.pose import pose
from mill_lane.core.render.shooting import Shooter, mesh_world
from mill_lane.core.render.wide_nodes import LEAF, NODE, NUMBERS
from mill_lane.core.render.world import World
from mill_lane.core.scene.model import Camera, Material, Mesh, Node, Scene
from mill_lane.core.scene.parts import part_of
from mill_lane.demo import shapes
from tests.gltf_tools import npm_mesh

ROOT = Path(__file__).resolve().parents[2]


def shoot(world: World, o: np.ndarray, d: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    s = Shooter(world, o, d)
    s.closest()
    return s.t, s.numbers, s.instances


def reference(
    vertices: np.ndarray, triangles: np.ndarray, o: np.ndarray, d: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    scene = rtcore_scene.EmbreeScene(robust=True)
    mesh = TriangleMesh(scene, vertices, triangles.astype(np.int32))
    out = scene.run(o.astype(np.float32), d.astype(np.float32), output=1)
    del mesh
    return np.asarray(out["tfar"]), np.asarray(out["primID"])


def unit(v: np.ndarray) -> np.ndarray:
    return v / np.linalg.norm(v, axis=1, keepdims=True)


class TestHits(unittest.TestCase):
    def compare(
        self,
        vertices: np.ndarray,
        triangles: np.ndarray,
        o: np.ndarray,
        d: np.ndarray,
        least: float = 0.9999,
    ) -> None:
        t, q, _ = shoot(mesh_world(vertices, triangles), o, d)
        want_t, want_q = reference(vertices, triangles, o, d)
        hit, want = q >= 0, want_q >= 0
        self.assertGreaterEqual((hit == want).mean(), least)
        both = hit & want
        self.assertGreaterEqual(
            np.isclose(t[both], want_t[both], rtol=1e-4, atol=1e-5).mean(), least
        )
        # The same triangle, or one at the same distance (an edge that two share).
        same = (q[both] == want_q[both]) | (np.abs(t[both] - want_t[both]) < 1e-4)
        self.assertGreaterEqual(same.mean(), least)
        self.assertGreater(both.sum(), len(o) // 50)

    def test_a_tree_full_of_leaves(self) -> None:
        crown = shapes.tree(20000, 3)[1]
        rng = np.random.default_rng(0)
        n = 200_000
        o = rng.normal(size=(n, 3)) * 3 + [0, 4, 0]
        d = unit(rng.normal(size=(n, 3)))
        self.compare(crown.positions, crown.triangles, o, d)

    def test_a_loaf_from_all_sides(self) -> None:
        loaf = shapes.loaf(0.3, 0.16, 0.13, 120, 3, 4)
        rng = np.random.default_rng(1)
        n = 100_000
        o = unit(rng.normal(size=(n, 3)))
        d = unit(rng.normal(size=(n, 3)) * 0.08 + [0, 0.04, 0] - o)
        self.compare(loaf.positions, loaf.triangles, o, d)

    def test_the_bunny_and_the_teapot(self) -> None:
        """The Stanford bunny and the Utah teapot as their npm packages have them (public
        domain).
        """
        rng = np.random.default_rng(8)
        for name in ("bunny", "teapot"):
            positions, triangles = npm_mesh(name)
            middle, reach = positions.mean(0), float(np.ptp(positions, axis=0).max())
            n = 100_000
            o = middle + unit(rng.normal(size=(n, 3))) * reach
            d = unit(middle + rng.normal(size=(n, 3)) * reach * 0.2 - o)
            self.compare(positions, triangles, o, d)

    def test_soup_with_huge_and_flat_triangles(self) -> None:
        rng = np.random.default_rng(2)
        corners = rng.normal(size=(4000, 1, 3)) + rng.normal(size=(4000, 3, 3)) * 10 ** rng.uniform(
            -3, 1, (4000, 1, 1)
        )
        corners[::50, 2] = corners[::50, 1]  # no area
        corners[::70] = corners[::70, :1]  # points
        vertices = corners.reshape(-1, 3).astype(np.float32)
        triangles = np.arange(12000, dtype=np.uint32).reshape(-1, 3)
        o = rng.normal(size=(50_000, 3)) * 4
        self.compare(vertices, triangles, o, unit(rng.normal(size=(50_000, 3))), least=0.999)

    def test_no_leak_between_triangles(self) -> None:
        """From inside a closed mesh, every ray aimed at an edge or a vertex must hit something."""
        ball = shapes.ball(1.0, 80)
        # Weld the seam, so that the mesh is closed to the bit.
        unique, inverse = np.unique(ball.positions.round(6), axis=0, return_inverse=True)
        triangles = inverse.reshape(-1)[ball.triangles].astype(np.uint32)
        triangles = triangles[
            (triangles[:, 0] != triangles[:, 1])
            & (triangles[:, 1] != triangles[:, 2])
            & (triangles[:, 0] != triangles[:, 2])
        ]
        world = mesh_world(unique.astype(np.float32), triangles)
        rng = np.random.default_rng(3)
        k, w = rng.integers(len(triangles), size=1_000_000), rng.random((1_000_000, 1))
        target = unique[triangles[k, 0]] * w + unique[triangles[k, 1]] * (1 - w)
        o = rng.normal(size=(1_000_000, 3)) * 0.1
        _, q, _ = shoot(world, o, unit(target - o))
        self.assertEqual(int((q < 0).sum()), 0)
        corners = unique[triangles[k, 0]]
        _, q, _ = shoot(world, o, unit(corners - o))
        self.assertEqual(int((q < 0).sum()), 0)

    def test_instances_are_where_their_matrices_say(self) -> None:
        """The same meshes placed by matrices and baked into world space are hit at the same
        places.
        """
        rng = np.random.default_rng(4)
        loaf = shapes.loaf(0.3, 0.2, 0.15, 24, 2, 1)
        matrices = []
        for _ in range(40):
            m = np.eye(4)
            m[:3, :3] = np.linalg.qr(rng.normal(size=(3, 3)))[0] * rng.uniform(0.5, 2, 3)
            m[:3, 3] = rng.uniform(-2, 2, 3)
            matrices.append(m)
        camera = Node("c", camera=0)
        scene = Scene(
            "copies",
            nodes=(*(Node(f"n{i}", matrix=m, mesh=0) for i, m in enumerate(matrices)), camera),
            meshes=(Mesh("loaf", (part_of(loaf, 0),)),),
            materials=(Material(),),
            cameras=(Camera("c", 1.0),),
        )
        world = pose(load(scene, 1), 0.0)
        baked = np.concatenate([loaf.positions @ m[:3, :3].T + m[:3, 3] for m in matrices]).astype(
            np.float32
        )
        triangles = np.concatenate(
            [loaf.triangles + i * len(loaf.positions) for i in range(40)]
        ).astype(np.uint32)
        n = 60_000
        o, d = rng.normal(size=(n, 3)) * 3, unit(rng.normal(size=(n, 3)))
        t, q, i = shoot(world, o, d)
        want_t, want_q = reference(baked, triangles, o, d)
        self.assertGreater(((q >= 0) == (want_q >= 0)).mean(), 0.9998)
        both = (q >= 0) & (want_q >= 0)
        self.assertGreater(np.isclose(t[both], want_t[both], rtol=1e-3, atol=1e-4).mean(), 0.9995)
        self.assertGreater((i[both] == want_q[both] // len(loaf.triangles)).mean(), 0.9995)

    def test_blocked_agrees_with_closest(self) -> None:
        """Whether anything is hit before a distance, with that distance just before and just behind
        the nearest hit.
        """
        crown = shapes.tree(3000, 3)[1]
        world = mesh_world(crown.positions, crown.triangles)
        rng = np.random.default_rng(5)
        n = 50_000
        s = Shooter(world, rng.normal(size=(n, 3)) * 3 + [0, 4, 0], unit(rng.normal(size=(n, 3))))
        s.closest()
        hit = s.slots >= 0
        for k, want in ((0.999, False), (1.001, True)):
            other = Shooter(world, s.o[hit], s.d[hit], s.t[hit] * k)
            other.blocked()
            self.assertGreaterEqual(((other.shut == 1) == want).mean(), 0.9999)
        none = Shooter(world, s.o[~hit], s.d[~hit])
        none.blocked()
        self.assertEqual(int(none.shut.sum()), 0)

    def test_a_hundred_thousand_instances(self) -> None:
        """A field of pebbles, each a placement of one mesh:

        every ray straight down hits the one below it.
        """
        pebble = shapes.ball(0.2, 8)
        side = 316
        x, z = np.meshgrid(np.arange(side), np.arange(side))
        nodes = [
            Node(f"p{i}", translation=(float(a), 0.0, float(b)), mesh=0)
            for i, (a, b) in enumerate(zip(x.flat, z.flat, strict=True))
        ]
        scene = Scene(
            "field",
            nodes=(*nodes, Node("c", camera=0)),
            meshes=(Mesh("pebble", (part_of(pebble, 0),)),),
            materials=(Material(),),
            cameras=(Camera("c", 1.0),),
        )
        world = pose(load(scene, 1), 0.0)
        rng = np.random.default_rng(6)
        k = rng.integers(side * side, size=20_000)
        o = np.stack([x.flat[k], np.full(len(k), 5.0), z.flat[k]], 1) + rng.uniform(
            -0.05, 0.05, (len(k), 3)
        ) * [1, 0, 1]
        _, _, places = shoot(world, o, np.tile([0.0, -1.0, 0.0], (len(k), 1)))
        np.testing.assert_array_equal(places, k)

    def test_far_from_the_origin(self) -> None:
        """An object 10 km away is hit as finely as at the origin:

        rays are carried into its own space in float64.
        """
        ball = shapes.ball(0.01, 24)
        matrix = np.eye(4)
        matrix[:3, 3] = (10_000.0, 0.0, 0.0)
        scene = Scene(
            "far",
            nodes=(Node("n", matrix=matrix, mesh=0), Node("c", camera=0)),
            meshes=(Mesh("ball", (part_of(ball, 0),)),),
            materials=(Material(),),
            cameras=(Camera("c", 1.0),),
        )
        world = pose(load(scene, 1), 0.0)
        d = unit(np.array([[0.0, 0.004, 1.0], [0.003, -0.001, 1.0], [0.0, 0.0, 1.0]]))
        from tests.kernels import closest_once

        for row in d:
            there = closest_once(world, (10_000.0, 0.0, -0.05), row)
            here = closest_once(mesh_world(ball.positions, ball.triangles), (0.0, 0.0, -0.05), row)
            self.assertAlmostEqual(there[0], here[0], places=7)
            self.assertEqual(there[1] >= 0, here[1] >= 0)


class TestHierarchy(unittest.TestCase):
    def test_every_triangle_stands_in_one_block(self) -> None:
        crown = shapes.tree(2000, 1)[1]
        nodes, leaves = build_mesh(crown.positions, crown.triangles)
        numbers = leaves[:, NUMBERS:].view(np.int32)
        kept = np.sort(numbers[numbers >= 0])
        np.testing.assert_array_equal(kept, np.arange(len(crown.triangles)))
        self.assertEqual((nodes.shape[1], leaves.shape[1]), (NODE, LEAF))
        self.assertLessEqual((nodes.nbytes + leaves.nbytes) / len(crown.triangles), 64)

    def test_threads_do_not_change_it(self) -> None:
        loaf = shapes.loaf(0.3, 0.16, 0.13, 120, 3, 4)
        for one, two in zip(
            build_mesh(loaf.positions, loaf.triangles),
            build_mesh(loaf.positions, loaf.triangles, 2),
            strict=True,
        ):
            np.testing.assert_array_equal(one.view(np.int32), two.view(np.int32))

    def test_one_triangle_and_a_pile_of_equal_ones(self) -> None:
        triangle = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
        for n in (1, 8, 9, 1000):
            world = mesh_world(triangle, np.tile(np.array([[0, 1, 2]], np.uint32), (n, 1)))
            t, q, _ = shoot(
                world, np.array([[0.2, 0.2, 1.0], [2, 2, 1]]), np.array([[0, 0, -1.0], [0, 0, -1]])
            )
            self.assertAlmostEqual(float(t[0]), 1.0, places=6)
            self.assertTrue(0 <= q[0] < n)
            self.assertEqual(q[1], -1)


@lean
def vector_boxes(nodes: int, ray: int, lanes: int, near: int) -> int:
    n, r, out = f32_at(nodes), f32_at(ray), f32_at(lanes)
    return vectors.boxes_entered(
        n,
        0,
        near & 8,
        (near >> 1) & 8,
        (near >> 2) & 8,
        r[0],
        r[1],
        r[2],
        r[3],
        r[4],
        r[5],
        r[6],
        out,
    )


@lean
def vector_triangles(leaves: int, ray: int, lanes: int, axes: int) -> int:
    """Also where the ray's axes begin, int64 (3,), and its origin and shear, to lanes[24:30]."""
    b, r, out, first = f32_at(leaves), f32_at(ray), f32_at(lanes), i64_at(axes)
    (x, y, z), (ox, oy, oz), (sx, sy, sz) = sheared((r[0], r[1], r[2], r[3], r[4], r[5]), out)
    first[0], first[1], first[2] = x, y, z
    out[24], out[25], out[26], out[27], out[28], out[29] = ox, oy, oz, sx, sy, sz
    return vectors.triangles_hit(b, 0, x, y, z, ox, oy, oz, sx, sy, sz, r[6], out)


@unittest.skipUnless(vectors.vectors_available(), "this processor has no vector code to compare")
class TestTwins(unittest.TestCase):
    """The vector code against its twins in plain Python."""

    def test_boxes(self) -> None:
        rng = np.random.default_rng(0)
        for _ in range(300):
            low, high = np.sort(rng.normal(size=(2, 3, 8)).astype(np.float32), axis=0)
            node = np.zeros(NODE, np.float32)
            node[:48] = np.stack([low, high], 1).reshape(-1)
            d, o = rng.normal(size=3), rng.normal(size=3)
            ray = np.array([*(1 / d), *o, rng.uniform(0.1, 4)], np.float32)
            signs = [8 if x < 0 else 0 for x in d]
            a, b = np.zeros(8, np.float32), np.zeros(8, np.float32)
            got = vector_boxes(
                node.ctypes.data,
                ray.ctypes.data,
                a.ctypes.data,
                signs[0] | signs[1] << 1 | signs[2] << 2,
            )
            want = plain.boxes_entered(node, 0, *signs, *ray[:3], *ray[3:6], ray[6], b)
            self.assertEqual(got, int(want))
            # A product and a sum rounded once, or each.
            np.testing.assert_allclose(a, b, rtol=1e-6, atol=2**-22 * abs(o / d).max())
            self.assertEqual(
                int(plain.boxes_touched(node, 0, *signs, *ray[:3], *ray[3:6], ray[6])), got
            )

    def test_no_box_is_missed(self) -> None:
        """Aimed at corners and edges of boxes, flat ones among them, from near and far, also along
        an axis: what is hit in exact numbers is entered.
        """
        rng = np.random.default_rng(2)
        told = 0
        for _ in range(4000):
            low, high = np.sort(rng.normal(size=(2, 3, 8)).astype(np.float32), axis=0)
            flat = rng.random((3, 8)) < 0.2
            low[flat] = high[flat]
            node = np.zeros(NODE, np.float32)
            node[:48] = np.stack([low, high], 1).reshape(-1)
            share = rng.choice([0.0, 1.0, rng.random()], 3)
            target = low[:, 0] * (1 - share) + high[:, 0] * share
            o = (target + rng.normal(size=3) * 10 ** rng.uniform(-3, 4)).astype(np.float32)
            d = unit((target - o)[None].astype(float))[0].astype(np.float32)
            if rng.random() < 0.2:
                k = rng.integers(3)
                d, o = np.eye(3, dtype=np.float32)[k], target.astype(np.float32)
                o[k] -= np.float32(10 ** rng.uniform(-2, 3))
            wide = np.where(d == 0, np.float32(1e-18), d)
            ray = np.array([*(np.float32(1) / wide), *o, 1e6], np.float32)
            # Where each box is entered and left by the ray as it is in float32, in long numbers.
            o_, d_ = o.astype(np.longdouble)[:, None], wide.astype(np.longdouble)[:, None]
            t = np.sort([(low - o_) / d_, (high - o_) / d_], axis=0)
            hit = np.maximum(t[0].max(0), 0) <= t[1].min(0)
            signs = [8 if x < 0 else 0 for x in d]
            lanes = np.zeros(8, np.float32)
            got = vector_boxes(
                node.ctypes.data,
                ray.ctypes.data,
                lanes.ctypes.data,
                signs[0] | signs[1] << 1 | signs[2] << 2,
            )
            twin = int(plain.boxes_touched(node, 0, *signs, *ray[:3], *ray[3:6], ray[6]))
            told += int(hit.sum())
            want = int((hit << np.arange(8)).sum())
            self.assertEqual((want & ~got, want & ~twin), (0, 0), (o, d))
        self.assertGreater(told, 2000)

    def test_triangles(self) -> None:
        rng = np.random.default_rng(1)
        hits = 0
        for _ in range(300):
            block = np.zeros(LEAF, np.float32)
            block[:72] = rng.normal(size=72)
            ray = np.array([*rng.normal(size=3), *rng.normal(size=3), 5.0], np.float32)
            a, b = np.zeros(32, np.float32), np.zeros(32, np.float32)
            axes = np.zeros(3, np.int64)
            got = vector_triangles(*(x.ctypes.data for x in (block, ray, a, axes)))
            self.assertEqual(axes[2], 8 * abs(ray[3:6]).argmax())
            want = int(plain.triangles_hit(block, 0, *axes, *a[24:30], ray[6], b))
            self.assertEqual(got, want)
            touched = plain.triangles_touched(block, 0, *axes, *a[24:30], ray[6])
            self.assertEqual(int(touched), want)
            for k in range(8):
                if want >> k & 1:
                    np.testing.assert_allclose(
                        a[[k, 8 + k, 16 + k]], b[[k, 8 + k, 16 + k]], rtol=2e-3, atol=1e-4
                    )
                    hits += 1
        self.assertGreater(hits, 100)

    def test_the_slow_way_renders_the_same(self) -> None:
        """A process that may not use the vectors finds the same hits."""
        import os
        import sys

        code = (
            "import numpy as np\nfrom mill_lane.core.render.jit import VECTORS\n"
            "from mill_lane.core.render.shooting import Shooter, mesh_world\nfrom mill_lane.demo "
            "import shapes\n"
            "g = shapes.loaf(0.3, 0.16, 0.13, 30, 3, 4)\nr = np.random.default_rng(0)\n"
            "s = Shooter(mesh_world(g.positions, g.triangles), r.normal(size=(4000, 3)), "
            "-r.normal(size=(4000, 3)))\n"
            "s.closest()\nprint(int(VECTORS), int(s.numbers.sum()), float(np.where(s.slots >= 0, "
            "s.t, 0).sum()))"
        )
        out = []
        for scalar in ("", "1"):
            env = {**os.environ, "MILL_LANE_SCALAR": scalar}
            done = subprocess.run(
                [sys.executable, "-c", code], capture_output=True, text=True, check=True, env=env
            )
            out.append([float(x) for x in done.stdout.split()])
        self.assertEqual((out[0][0], out[1][0]), (1, 0))
        self.assertEqual(out[0][1], out[1][1])
        self.assertAlmostEqual(out[0][2], out[1][2], places=2)
