"""Ray hits against embreex, and the places where they are easily wrong."""

from __future__ import annotations

import unittest
from pathlib import Path

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from mill_lane.core.render.build import build_mesh
from mill_lane.core.render.load import load
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
