"""Subdivision surfaces against published masks, closed forms and a reference library."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from mill_lane.core.errors import MillError
from mill_lane.core.scene.model import Geometry
from mill_lane.core.subdivision.cage import SEAMS, Cage, Spread, cornered, packed, unpacked
from mill_lane.core.subdivision.dice import dice, sizes
from mill_lane.core.subdivision.masks import catmull_clark, loop
from mill_lane.core.subdivision.topology import INFINITE, in_four, topology_of
from tests.surfaces import CORNERS, QUADS, cage_of, edges_of, grid, halves


def whole(cage: Cage, level: int) -> Geometry:
    g = dice(cage, level)[0]
    assert g is not None
    return g


def at(g: Geometry, place: Any) -> np.ndarray:
    """The normals of the vertices at a place."""
    near = np.linalg.norm(g.positions - np.asarray(place), axis=1) < 1e-5
    return g.normals[near]


def turned(g: Geometry) -> np.ndarray:
    """The angle between each vertex's normal and the mean of its triangles', degrees."""
    p = g.positions.astype(float)
    flat = np.cross(*(p[g.triangles[:, k]] - p[g.triangles[:, 0]] for k in (1, 2)))
    mean = np.zeros_like(p)
    for k in range(3):
        np.add.at(mean, g.triangles[:, k], flat)
    mean /= np.linalg.norm(mean, axis=1, keepdims=True)
    return np.degrees(np.arccos(np.clip((mean * g.normals).sum(1), -1, 1)))


class TestLimits(unittest.TestCase):
    def test_the_corner_of_a_cube(self) -> None:
        """(n² v + 4 Σ edges + Σ faces) / (n (n + 5)) with n = 3 (Halstead, Kass and DeRose 1993;
        Stam 1998): (9 + 4 - 1) / 24 of the corner, at every level.
        """
        for level in range(4):
            g = whole(cage_of(CORNERS, QUADS), level)
            found = at(g, (0.5, 0.5, 0.5))
            self.assertEqual(len(found), 1)
            np.testing.assert_allclose(found[0], np.full(3, 3**-0.5), atol=1e-6)

    def test_a_regular_sheet_is_a_bicubic_spline(self) -> None:
        """Control heights x² + x y give x² + 1/3 + x y there (uniform cubic B-spline, de Boor),
        and the slopes of the parabola.
        """
        cage = cage_of(*grid(6, 6, lambda x, y: x * x + x * y))
        inner = [(x, y) for x in (2, 3, 4) for y in (2, 3, 4)]
        for level in (0, 2):
            g = whole(cage, level)
            for x, y in inner:
                (normal,) = at(g, (x, y, x * x + x * y + 1 / 3))
                slope = np.array([-(2 * x + y), -x, 1.0])
                np.testing.assert_allclose(normal, slope / np.linalg.norm(slope), atol=1e-5)

    def test_regular_triangles_are_a_box_spline(self) -> None:
        """Loop 1987: a regular vertex keeps half, and a twelfth of each neighbour."""
        points, quads = grid(6, 6, lambda x, y: x * x - y * y)
        g = whole(cage_of(points, halves(quads), "loop"), 0)
        for x, y in ((2, 2), (3, 4), (4, 3)):
            (normal,) = at(g, (x, y, x * x - y * y))
            slope = np.array([-2.0 * x, 2.0 * y, 1.0])
            np.testing.assert_allclose(normal, slope / np.linalg.norm(slope), atol=1e-5)

    def test_loops_extraordinary_vertices(self) -> None:
        """A tetrahedron's corners: β = 3/16, limit v 2/5 + Σ / 5 (Loop 1987), a fifth of the
        corner; an icosahedron's look outward.
        """
        tips = np.array([[1, 1, 1], [1, -1, -1], [-1, 1, -1], [-1, -1, 1]], float)
        g = whole(cage_of(tips, [[0, 1, 2], [0, 3, 1], [0, 2, 3], [1, 3, 2]], "loop"), 2)
        for tip in tips:
            (normal,) = at(g, tip / 5)
            np.testing.assert_allclose(normal, tip / 3**0.5, atol=1e-6)
        ball = trimesh.creation.icosahedron()
        g = whole(cage_of(ball.vertices, ball.faces, "loop"), 0)
        radii = np.linalg.norm(g.positions, axis=1, keepdims=True)
        np.testing.assert_allclose(radii, float(radii[0, 0]), atol=1e-6)
        np.testing.assert_allclose(g.normals, g.positions / radii, atol=1e-6)

    def test_a_level_of_loop_against_trimesh(self) -> None:
        for mesh in (trimesh.creation.icosahedron(), trimesh.creation.box()):
            t = topology_of(
                np.full(len(mesh.faces), 3), np.asarray(mesh.faces).reshape(-1), len(mesh.vertices)
            )
            ours = loop(t, np.asarray(mesh.vertices, float))
            theirs, _ = trimesh.remesh.subdivide_loop(mesh.vertices, mesh.faces, 1)
            rows = [x[np.lexsort(np.round(x, 6).T)] for x in (ours, theirs)]
            np.testing.assert_allclose(*rows, atol=1e-6)

    def test_normals_are_those_of_the_surface(self) -> None:
        """Inside, on borders and in corners, also where polygons are few or many: the finer the
        triangles, the nearer are theirs.
        """
        rng = np.random.default_rng(4)
        points, quads = grid(4, 4)
        points[:, 2] = rng.random(len(points))
        some = quads[[0, 1, 2, 4, 5, 8, 9, 10]]
        for cage in (
            cage_of(points, some),
            cage_of(CORNERS, QUADS, pairs=edges_of(QUADS)[:5], sharp=np.full(5, INFINITE)),
            cage_of(points, halves(some), "loop"),
        ):
            coarse, fine = (np.quantile(turned(whole(cage, level)), 0.99) for level in (2, 5))
            self.assertLess(fine, 0.35 * coarse)
            self.assertLess(fine, 3.0)

    def test_a_cube_comes_near_a_ball(self) -> None:
        """All of it between the cube's corner and its face: 0.8395 to 0.8661, by the masks."""
        g = whole(cage_of(CORNERS, QUADS), 5)
        radii = np.linalg.norm(g.positions, axis=1)
        self.assertAlmostEqual(radii.max(), 0.75**0.5, 6)
        self.assertGreater(radii.min() / radii.max(), 0.969)
        self.assertGreater((g.normals * g.positions / radii[:, None]).sum(1).min(), 0.99)


class TestCreases(unittest.TestCase):
    def test_all_sharp_is_the_cube(self) -> None:
        edges = edges_of(QUADS)
        cage = cage_of(CORNERS, QUADS, pairs=edges, sharp=np.full(12, INFINITE))
        g = whole(cage, 2)
        np.testing.assert_allclose(np.abs(g.positions).max(1), 1.0, atol=1e-6)
        self.assertEqual(len(at(g, (1, 1, 1))), 3)
        self.assertAlmostEqual(float(turned(g).max()), 0.0, 3)

    def test_a_sharp_ring_is_a_cubic_curve(self) -> None:
        """Along a crease the limit is (a + 4 v + b) / 6: the cubic B-spline of the ring."""
        ring = np.array([[1, 3], [3, 7], [5, 7], [1, 5]])
        g = whole(cage_of(CORNERS, QUADS, pairs=ring, sharp=np.full(4, INFINITE)), 3)
        self.assertEqual(len(at(g, (2 / 3, 2 / 3, 1.0))), 2)  # a normal on either side
        np.testing.assert_allclose(g.positions[:, 2].max(), 1.0, atol=1e-6)

    def test_sharpness_is_used_up(self) -> None:
        """DeRose et al. 1998: with a sharpness of 1 one level is sharp, the rest smooth; of 0.5,
        the first level lies halfway between the sharp and the smooth.
        """
        edges, points = edges_of(QUADS), np.array(CORNERS, float)
        once = cage_of(CORNERS, QUADS, pairs=edges, sharp=np.ones(12))
        sharp = once.topology
        t = in_four(sharp)
        finer = cage_of(catmull_clark(sharp, points), t.corners.reshape(-1, 4))
        a, b = whole(once, 3).positions, whole(finer, 2).positions
        np.testing.assert_allclose(*(x[np.lexsort(np.round(x, 4).T)] for x in (a, b)), atol=1e-5)
        half, none, full = (
            catmull_clark(
                cage_of(CORNERS, QUADS, pairs=edges, sharp=np.full(12, s)).topology, points
            )
            for s in (0.5, 0.0, 1.0)
        )
        np.testing.assert_allclose(half, (none + full) / 2, atol=1e-12)

    def test_borders_and_corners(self) -> None:
        cage = cage_of(*grid(3, 2))
        held = whole(replace(cage, pinned=cornered(cage)), 3)
        self.assertEqual(len(at(held, (0, 0, 0))), 1)
        self.assertEqual(len(at(whole(cage, 3), (0, 0, 0))), 0)  # rounded
        np.testing.assert_allclose(held.positions.max(0), (3, 2, 0), atol=1e-6)
        np.testing.assert_allclose(held.normals, np.tile((0, 0, 1.0), (len(held.normals), 1)))


class TestSpreads(unittest.TestCase):
    def test_corners_of_a_texture_stay_or_move(self) -> None:
        points, quads = grid(3, 3)
        uvs = points[:, :2] / 3
        for seams, corner in (("all", 0.0), ("boundaries", 0.0), ("cornersPlus1", 0.0)):
            g = whole(cage_of(points, quads, uvs=Spread(uvs, quads.reshape(-1), seams)), 2)
            assert g.uvs is not None
            self.assertAlmostEqual(float(g.uvs.min()), corner, 6)
        free = whole(cage_of(points, quads, uvs=Spread(uvs, quads.reshape(-1), "none")), 2)
        assert free.uvs is not None
        # (a + 4 v + b) / 6 at the corner of a border: a sixth of an edge in.
        self.assertAlmostEqual(float(free.uvs.min(0).max()), 0.0, 6)
        self.assertGreater(float(np.linalg.norm(free.uvs, axis=1).min()), 1 / 3 / 6)

    def test_places_that_go_the_way_of_the_positions(self) -> None:
        """Planar places stay planar under "vertex", creases and all."""
        points, quads = grid(4, 3, lambda x, y: np.sin(3 * x + y))
        cage = cage_of(points, quads, uvs=Spread(points[:, :2], quads.reshape(-1), "vertex"))
        g = whole(cage, 2)
        np.testing.assert_allclose(g.uvs, g.positions[:, :2], atol=1e-6)

    def test_a_seam_keeps_its_sides_apart(self) -> None:
        points, quads = grid(4, 1)
        at_corner = (quads + 20 * (np.arange(4) > 1)[:, None]).reshape(-1)
        used, where = np.unique(at_corner, return_inverse=True)
        uvs = np.stack([used % 20 % 5 / 4, (used % 20) // 5 + 0.0], 1) + (used >= 20)[:, None] * 9.0
        g = whole(cage_of(points, quads, uvs=Spread(uvs, where.reshape(-1))), 3)
        assert g.uvs is not None
        side = g.uvs[:, 1] > 5
        self.assertEqual(float(g.positions[side, 0].min()), 2.0)
        self.assertEqual(float(g.positions[~side, 0].max()), 2.0)


@st.composite
def cages(draw: st.DrawFn) -> Cage:
    """Odd sheets with holes, creases, seams and two parts."""
    rng = np.random.default_rng(draw(st.integers(0, 2**20)))
    points, faces = grid(draw(st.integers(1, 4)), draw(st.integers(1, 4)))
    points[:, 2] = rng.random(len(points))
    faces = faces[rng.random(len(faces)) < 0.85]
    if not len(faces):
        faces = grid(1, 1)[1]
    scheme = draw(st.sampled_from(["catmullClark", "loop"]))
    if scheme == "loop":
        faces = halves(faces)
    edges = edges_of(faces)
    some = edges[rng.integers(0, len(edges), draw(st.integers(0, 4)))]
    apart, where = np.unique(faces * 2 + rng.integers(0, 2, (len(faces), 1)), return_inverse=True)
    uvs = points[apart // 2, :2] + (apart % 2)[:, None] * 100.0
    return cage_of(
        points,
        faces,
        scheme,
        pairs=some,
        sharp=rng.choice([0.4, 1.5, 2.0, 10.0], len(some)),
        pinned=rng.choice([0.0, 0.0, 0.7, 10.0], len(points)),
        owner=rng.integers(-1, 2, len(faces)),
        uvs=Spread(uvs, where.reshape(-1), draw(st.sampled_from(SEAMS[:6]))),
    )


class TestSizes(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(cages(), st.integers(0, 3))
    def test_what_is_predicted_is_what_is_there(self, cage: Cage, level: int) -> None:
        """Vertices and triangles of every part, after a journey as bytes."""
        found = dice(unpacked(packed(cage), "sheet"), level)
        predicted = [s.at(cage.scheme, level) for s in sizes(cage, len(found))]
        held = [(0, 0) if g is None else (len(g.positions), len(g.triangles)) for g in found]
        self.assertEqual(held, predicted)
        for g in found:
            if g is not None:
                self.assertTrue(np.isfinite(g.positions).all())
                np.testing.assert_allclose(np.linalg.norm(g.normals, axis=1), 1.0, atol=1e-5)

    def test_polygons_with_other_corners(self) -> None:
        """A pyramid over a pentagon: 5 triangles and a pentagon make 20 quads, 40 triangles."""
        turn = 2 * np.pi * np.arange(5) / 5
        points = np.concatenate([np.stack([np.cos(turn), np.sin(turn), 0 * turn], 1), [[0, 0, 1]]])
        corners = [[i, (i + 1) % 5, 5] for i in range(5)]
        flat = np.array([*np.ravel(corners), 4, 3, 2, 1, 0])
        cut = np.concatenate(
            [np.arange(15).reshape(5, 3), [[15, 16, 17], [15, 17, 18], [15, 18, 19]]]
        )
        bare = cage_of(points, corners)
        cage = replace(
            bare,
            counts=np.array([3] * 5 + [5]),
            corners=flat,
            owner=np.zeros(6, np.int64),
            cut=cut,
        )
        self.assertEqual([len(whole(cage, n).triangles) for n in range(3)], [8, 40, 160])

    def test_bytes_that_fit_nothing(self) -> None:
        cage = cage_of(CORNERS, QUADS)
        wrong = (
            b"",
            packed(cage)[:-40],
            packed(replace(cage, corners=cage.corners + 3)),
            packed(replace(cage, scheme="loop")),
            packed(replace(cage, points=cage.points * np.nan)),
            packed(replace(cage, uvs=Spread(np.zeros((2, 2)), cage.corners))),
        )
        for data in wrong:
            with self.assertRaisesRegex(MillError, "“jug” cannot be read"):
                unpacked(data, "jug")
