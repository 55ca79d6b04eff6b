"""Copies with a transform baked in: every one is found, and nothing that is not one."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np
import trimesh
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from mill_lane.core.scene.model import Geometry
from mill_lane.core.weigh.congruence import fitted
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo import shapes
from tests.scenes import WHITE, floor, lump, scene_of

LOAF = shapes.ball(0.2, 24)
LOAF = Geometry(
    LOAF.positions * np.float32([1.0, 0.6, 1.7]) + np.float32([0.1, 0.3, 0]),
    LOAF.normals,
    LOAF.uvs,
    LOAF.triangles,
)
n_ = LOAF.normals / np.float32([1.0, 0.6, 1.7])
LOAF = Geometry(
    LOAF.positions, n_ / np.linalg.norm(n_, axis=1, keepdims=True), LOAF.uvs, LOAF.triangles
)
QUICK = settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))


def baked(g: Geometry, m: np.ndarray, to: np.ndarray) -> Geometry:
    """The transform put into the vertices, as an exporter does:

    a mirrored mesh has its triangles turned round.
    """
    normals = g.normals @ np.linalg.inv(m)
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    triangles = (
        g.triangles if np.linalg.det(m) > 0 else np.ascontiguousarray(g.triangles[:, [0, 2, 1]])
    )
    return Geometry(
        (g.positions @ m.T + to).astype(np.float32), normals.astype(np.float32), g.uvs, triangles
    )


def disordered(g: Geometry, rng: np.random.Generator) -> Geometry:
    """Vertices and triangles in another order, corners turned, a few normals different."""
    order = rng.permutation(len(g.positions))
    triangles = np.argsort(order)[g.triangles.astype(np.int64)][rng.permutation(len(g.triangles))]
    turn = rng.integers(0, 3, len(triangles))
    triangles = np.take_along_axis(triangles, (turn[:, None] + np.arange(3)) % 3, 1)
    normals = g.normals[order].copy()
    few = (rng.random(len(normals)) < 0.007) & (len(normals) > 100)
    normals[few] = -normals[few]
    uvs = None if g.uvs is None else g.uvs[order]
    return Geometry(g.positions[order], normals, uvs, triangles.astype(np.uint32))


def rotation(x: float, y: float, z: float) -> np.ndarray:
    return trimesh.transformations.euler_matrix(x, y, z)[:3, :3]


class TestBaked(unittest.TestCase):
    @QUICK
    @given(
        st.tuples(*[st.floats(-math.pi, math.pi)] * 3),
        st.floats(0.01, 50.0),
        st.sampled_from([1, -1]),
        st.tuples(*[st.floats(-30, 30)] * 3),
    )
    def test_rotation_mirror_scale(
        self, turn: tuple[float, ...], size: float, side: int, to: tuple[float, ...]
    ) -> None:
        m = rotation(*turn) @ np.diag([size * side, size, size])
        found = fitted(LOAF, baked(LOAF, m, np.array(to)))
        assert found is not None
        np.testing.assert_allclose(
            found[:, :3], m, atol=2e-4 * size + 1e-5 * float(np.abs(to).max())
        )

    @QUICK
    @given(st.tuples(*[st.floats(0.2, 3.0)] * 3), st.tuples(*[st.floats(-math.pi, math.pi)] * 3))
    def test_uneven_scale(self, size: tuple[float, ...], turn: tuple[float, ...]) -> None:
        self.assertIsNotNone(
            fitted(LOAF, baked(LOAF, rotation(*turn) @ np.diag(size), np.zeros(3)))
        )

    @QUICK
    @given(
        st.integers(0, len(LOAF.positions) - 1),
        st.integers(0, 2),
        st.tuples(*[st.floats(-math.pi, math.pi)] * 3),
    )
    def test_one_vertex_moved_by_a_millimetre_is_another_mesh(
        self, vertex: int, axis: int, turn: tuple[float, ...]
    ) -> None:
        moved = LOAF.positions.copy()
        moved[vertex, axis] += 0.001
        other = Geometry(moved, LOAF.normals, LOAF.uvs, LOAF.triangles)
        self.assertIsNone(fitted(LOAF, other))
        self.assertIsNone(fitted(LOAF, baked(other, rotation(*turn), np.array([1.0, 2.0, 3.0]))))

    def test_turned_inside_out_is_another_mesh(self) -> None:
        inside = Geometry(
            LOAF.positions,
            LOAF.normals,
            LOAF.uvs,
            np.ascontiguousarray(LOAF.triangles[:, [0, 2, 1]]),
        )
        self.assertIsNone(fitted(LOAF, inside))

    def test_flat_meshes(self) -> None:
        """A sheet has no thickness to fit: its normals stand in for it."""
        sheet = floor(2.0)
        m = rotation(0.3, 1.0, 2.0) * 1.5
        self.assertIsNotNone(fitted(sheet, baked(sheet, m, np.array([1.0, 0, 0]))))
        bent = Geometry(
            sheet.positions + np.float32([[0, 0, 0], [0, 0.001, 0], [0, 0, 0], [0, 0, 0]]),
            sheet.normals,
            sheet.uvs,
            sheet.triangles,
        )
        self.assertIsNone(fitted(sheet, bent))

    def test_in_another_order_and_with_other_normals(self) -> None:
        """As a scan is baked by a program that sorts: order is lost, some normals differ."""
        rng = np.random.default_rng(7)
        for g in (LOAF, lump(20, 3), floor(2.0)):
            for side in (1, -1):
                m = rotation(*rng.uniform(-3, 3, 3)) @ np.diag([1.7 * side, 1.7, 1.7])
                to = rng.uniform(-5, 5, 3)
                found = fitted(g, disordered(baked(g, m, to), rng))
                assert found is not None
                moved = np.concatenate([g.positions, np.ones((len(g.positions), 1))], 1) @ found.T
                wanted = g.positions @ m.T + to
                # A symmetric mesh may come to lie on itself otherwise: the points are the same set.
                key = [np.unique(np.round(x, 3) + 0.0, axis=0) for x in (moved, wanted)]
                self.assertEqual(key[0].shape, key[1].shape)
                np.testing.assert_allclose(key[0], key[1], atol=2e-3)

    def test_disordered_near_misses_are_others(self) -> None:
        rng = np.random.default_rng(9)
        g = lump(20, 3)
        bent = g.positions.copy()
        bent[len(bent) // 3 :: 40] *= np.float32(1.02)
        self.assertIsNone(fitted(g, disordered(Geometry(bent, g.normals, g.uvs, g.triangles), rng)))
        self.assertIsNone(fitted(g, disordered(lump(20, 4), rng)))
        inside = Geometry(g.positions, g.normals, g.uvs, g.triangles[:, ::-1].copy())
        self.assertIsNone(fitted(g, disordered(inside, rng)))

    def test_in_a_scene(self) -> None:
        """Saved bytes and rows:

        six baked copies of one loaf, one near miss, one exact copy of a baked one.
        """
        rng = np.random.default_rng(4)
        turns = [
            rotation(*rng.uniform(-3, 3, 3)) @ np.diag([s, 1, 1]) for s in (1, -1, 1, -1, 1, 1)
        ]
        copies = [baked(LOAF, m, rng.uniform(-2, 2, 3)) for m in turns]
        miss = copies[0].positions.copy()
        miss[7, 1] += 0.001
        near = Geometry(miss, copies[0].normals, copies[0].uvs, copies[0].triangles)
        scene = scene_of(*[(g, WHITE) for g in (LOAF, *copies, near, copies[2])])
        # One material for all, or they could not be shared.
        meshes = tuple(
            replace(m, parts=tuple(replace(p, material=0) for p in m.parts)) for m in scene.meshes
        )
        rows = weigh(replace(scene, meshes=meshes)).meshes
        self.assertEqual([r.duplicate_of for r in rows], [None, *[0] * 6, None, 0])
        self.assertEqual([r.duplicate_baked for r in rows], [False, *[True] * 6, False, True])
