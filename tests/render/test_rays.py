"""Ray hits against embreex, and the places where they are easily wrong."""

from __future__ import annotations

import unittest

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from mill_lane.core.render.build import build_mesh
from mill_lane.core.render.load import load, pose
from mill_lane.core.render.traverse import Accel, closest_batch
from mill_lane.core.scene.model import Camera, Material, Mesh, Node, Scene
from mill_lane.demo import shapes
from mill_lane.demo.bakery import part_of


def accel_of(vertices: np.ndarray, triangles: np.ndarray) -> tuple[Accel, np.ndarray]:
    order, boxes, links = build_mesh(vertices, triangles)
    one = np.eye(3, 4, dtype=np.float32).reshape(1, 12)
    top = Accel(
        np.concatenate([vertices.min(0) - 1, vertices.max(0) + 1])[None].astype(np.float32),
        np.array([[0, 1]], np.uint32), np.zeros(1, np.uint32),
        one, np.zeros(1, np.uint32), boxes, links, triangles[order], vertices,
    )  # fmt: skip
    return top, order


def shoot(a: Accel, o: np.ndarray, d: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    t, q, i = np.empty(len(o), np.float32), np.empty(len(o), np.int32), np.empty(len(o), np.int32)
    closest_batch(a, o.astype(np.float32), d.astype(np.float32), t, q, i)
    return t, q, i


def reference(vertices: np.ndarray, triangles: np.ndarray, o: np.ndarray, d: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    scene = rtcore_scene.EmbreeScene(robust=True)
    mesh = TriangleMesh(scene, vertices, triangles.astype(np.int32))
    out = scene.run(o.astype(np.float32), d.astype(np.float32), output=1)
    del mesh
    return np.asarray(out["tfar"]), np.asarray(out["primID"])


def unit(v: np.ndarray) -> np.ndarray:
    return v / np.linalg.norm(v, axis=1, keepdims=True)


class TestHits(unittest.TestCase):
    def compare(self, vertices: np.ndarray, triangles: np.ndarray, o: np.ndarray, d: np.ndarray, least: float = 0.9999) -> None:
        a, order = accel_of(vertices, triangles)
        t, q, _ = shoot(a, o, d)
        want_t, want_q = reference(vertices, triangles, o, d)
        hit, want = q >= 0, want_q >= 0
        self.assertGreaterEqual((hit == want).mean(), least)
        both = hit & want
        self.assertGreaterEqual(np.isclose(t[both], want_t[both], rtol=1e-4, atol=1e-5).mean(), least)
        # The same triangle, or one at the same distance (an edge that two share).
        same = (order[q[both]] == want_q[both]) | (np.abs(t[both] - want_t[both]) < 1e-4)
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

    def test_soup_with_huge_and_flat_triangles(self) -> None:
        rng = np.random.default_rng(2)
        corners = rng.normal(size=(4000, 1, 3)) + rng.normal(size=(4000, 3, 3)) * 10 ** rng.uniform(-3, 1, (4000, 1, 1))
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
            (triangles[:, 0] != triangles[:, 1]) & (triangles[:, 1] != triangles[:, 2]) & (triangles[:, 0] != triangles[:, 2])
        ]
        a, _ = accel_of(unique.astype(np.float32), triangles)
        rng = np.random.default_rng(3)
        k, w = rng.integers(len(triangles), size=300_000), rng.random((300_000, 1))
        target = unique[triangles[k, 0]] * w + unique[triangles[k, 1]] * (1 - w)
        o = rng.normal(size=(300_000, 3)) * 0.1
        _, q, _ = shoot(a, o, unit(target - o))
        self.assertEqual(int((q < 0).sum()), 0)

    def test_instances_are_where_their_matrices_say(self) -> None:
        """The same meshes placed by matrices and baked into world space are hit at the same places."""
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
            "copies", nodes=(*(Node(f"n{i}", matrix=m, mesh=0) for i, m in enumerate(matrices)), camera),
            meshes=(Mesh("loaf", (part_of(loaf, 0),)),), materials=(Material(),), cameras=(Camera("c", 1.0),),
        )  # fmt: skip
        world = pose(load(scene, 1), 0.0)
        baked = np.concatenate([loaf.positions @ m[:3, :3].T + m[:3, 3] for m in matrices]).astype(np.float32)
        triangles = np.concatenate([loaf.triangles + i * len(loaf.positions) for i in range(40)]).astype(np.uint32)
        n = 60_000
        o, d = rng.normal(size=(n, 3)) * 3, unit(rng.normal(size=(n, 3)))
        t, q, i = shoot(world.accel, o, d)
        want_t, want_q = reference(baked, triangles, o, d)
        self.assertGreater(((q >= 0) == (want_q >= 0)).mean(), 0.9998)
        both = (q >= 0) & (want_q >= 0)
        self.assertGreater(np.isclose(t[both], want_t[both], rtol=1e-3, atol=1e-4).mean(), 0.9995)
        self.assertGreater((i[both] == want_q[both] // len(loaf.triangles)).mean(), 0.9995)


if __name__ == "__main__":
    unittest.main()
