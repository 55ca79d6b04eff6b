"""Thinned meshes: what stays, what is carried, and how far they lie off."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from mill_lane.core.formats.meshes.soup import smooth_normals
from mill_lane.core.scene.model import Geometry
from mill_lane.core.trim.closest import closest, tree_of
from mill_lane.core.trim.deviation import deviation, reference_of
from mill_lane.core.trim.simplify import joined, thinned
from mill_lane.demo import shapes
from tests.gltf_tools import npm_mesh
from tests.scenes import lump


def thin(g: Geometry, triangles: int) -> Geometry:
    return thinned([g], joined([g]), triangles)[0]


def grid(n: int, height: float = 0.0) -> Geometry:
    """A square of n x n quads in the XY plane with places on the texture, maybe with waves."""
    x, y = np.meshgrid(np.linspace(0, 1, n + 1), np.linspace(0, 1, n + 1))
    z = height * np.sin(5 * x) * np.cos(4 * y)
    p = np.stack([x, y, z], -1).reshape(-1, 3).astype(np.float32)
    i = np.arange((n + 1) ** 2).reshape(n + 1, n + 1)
    a, b, c, d = (k.ravel() for k in (i[:-1, :-1], i[:-1, 1:], i[1:, 1:], i[1:, :-1]))
    t = np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)]).astype(np.uint32)
    return Geometry(p, smooth_normals(p, t), p[:, :2] * np.float32([2, 3]), t)


def solid(g: Geometry) -> trimesh.Trimesh:
    """The mesh with its vertices one where they stand at the same place, to the bit."""
    points, index = np.unique(g.positions, axis=0, return_inverse=True)
    return trimesh.Trimesh(points, index.reshape(-1)[g.triangles.astype(int)], process=False)


def torus(around: int = 64, across: int = 32) -> Geometry:
    mesh = trimesh.creation.torus(1.0, 0.3, major_sections=around, minor_sections=across)
    p, t = np.array(mesh.vertices, np.float32), np.array(mesh.faces, np.uint32)
    return Geometry(p, smooth_normals(p, t), None, t)


class TestClosest(unittest.TestCase):
    def test_against_trimesh(self) -> None:
        g = lump(12, 5)
        mesh = trimesh.Trimesh(g.positions, g.triangles, process=False)
        points = np.random.default_rng(1).normal(size=(300, 3))
        near, distance, _ = trimesh.proximity.closest_point_naive(mesh, points)
        found = closest(tree_of(g.positions, g.triangles), points)
        np.testing.assert_allclose(found.distance, distance, atol=1e-9)
        corners = g.positions[g.triangles[found.triangle]].astype(float)
        np.testing.assert_allclose((corners * found.weights[..., None]).sum(1), near, atol=1e-6)

    def test_one_triangle_and_one_without_area(self) -> None:
        p = np.float32([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 5]])
        one = closest(tree_of(p, np.array([[0, 1, 2]])), np.array([[0.2, 0.2, 3.0], [-3, 0, 4]]))
        np.testing.assert_allclose(one.distance, [3.0, 5.0])
        line = closest(tree_of(p, np.array([[0, 3, 3]])), np.array([[3.0, 4.0, 2.0]]))
        np.testing.assert_allclose(line.distance, [5.0])


class TestQuadrics(unittest.TestCase):
    def test_flat_regions_collapse_without_error(self) -> None:
        """Garland and Heckbert 1997, section 5: planar regions cost nothing."""
        flat = grid(40)
        less = thin(flat, 10)
        self.assertLess(len(less.triangles), 240)  # what 160 vertices of the border need
        self.assertGreaterEqual(len(less.triangles), 158)
        off = deviation(reference_of(flat), less)
        self.assertLess(off.most, 1e-6)
        self.assertAlmostEqual(float(solid(less).area), 1.0, 5)
        # Places on the texture are what they are at that place of the surface.
        np.testing.assert_allclose(less.uvs, less.positions[:, :2] * [2, 3], atol=2e-5)

    def test_error_grows_as_triangles_go(self) -> None:
        """Garland and Heckbert 1997, figure 9; means, since the largest one jumps about."""
        for g in (lump(48, 3), grid(60, 0.1), torus()):
            reference, n = reference_of(g), len(g.triangles)
            found = [deviation(reference, thin(g, n // k)) for k in (1, 2, 4, 8)]
            means = [x.mean for x in found]
            self.assertLess(means[0], 1e-6)
            self.assertEqual(means, sorted(means))
            for x in found:
                self.assertLessEqual(x.mean, x.most)

    def test_a_closed_surface_stays_closed(self) -> None:
        """Watertight, of the same genus, and nearly of the same volume."""
        for g, genus in ((torus(), 1), (lump(40, 2), 0)):
            before, after = solid(g), solid(thin(g, len(g.triangles) // 8))
            self.assertEqual(after.is_watertight, before.is_watertight)
            self.assertEqual(after.euler_number, before.euler_number)
            if genus:
                self.assertEqual(after.euler_number, 2 - 2 * genus)
                self.assertLess(abs(after.volume / before.volume - 1), 0.02)

    def test_open_borders_and_seams_stay_put(self) -> None:
        for g in (grid(30, 0.1), lump(30, 4)):
            mesh = joined([g])
            kept = {bytes(x) for x in thin(g, len(g.triangles) // 10).positions}
            still = mesh.positions[mesh.locked].astype(np.float32)
            self.assertGreater(len(still), 30)
            self.assertLess(len(still), len(g.positions) / 3)
            self.assertTrue(all(bytes(x) in kept for x in still))

    def test_seams_do_not_mix_the_texture(self) -> None:
        """A ball is cut open along a meridian where U goes from 1 to 0: no U in between is new."""
        g = shapes.ball(1.0, 40)
        less = thin(g, len(g.triangles) // 6)
        assert less.uvs is not None
        assert g.uvs is not None
        found = closest(tree_of(g.positions, g.triangles), less.positions)
        there = g.uvs[g.triangles[found.triangle]].astype(float)
        wanted = (there * found.weights[..., None]).sum(1)
        off = np.abs(less.uvs[:, 0] - wanted[:, 0])
        off = np.minimum(off, 1 - off)  # both sides of the cut stand at the same place
        away = np.abs(less.positions[:, 1]) < 0.95  # at the poles any U will do
        self.assertLess(float(off[away].max()), 1e-4)
        # No triangle spans the cut: it would squeeze the whole picture into itself.
        self.assertLess(float(np.ptp(less.uvs[less.triangles][..., 0], 1).max()), 0.5)

    def test_borders_between_materials(self) -> None:
        """Two parts that meet: each is thinned, and they still meet."""
        g = grid(30, 0.1)
        left = (g.positions[g.triangles].mean(1)[:, 0] < 0.5)[:, None]
        parts = [replace(g, triangles=g.triangles[(left == k)[:, 0]]) for k in (True, False)]
        made = thinned(parts, joined(parts), len(g.triangles) // 8)
        self.assertTrue(all(0 < len(x.triangles) < len(g.triangles) // 3 for x in made))
        edge = [{bytes(x) for x in m.positions if x[0] == np.float32(0.5)} for m in made]
        self.assertEqual(edge[0], edge[1])
        self.assertEqual(len(edge[0]), 31)

    def test_bunny_and_teapot(self) -> None:
        """The npm packages' meshes, by trimesh's own nearest points (Hausdorff, sampled)."""
        for name in ("bunny", "teapot"):
            p, t = npm_mesh(name)
            size = float(np.linalg.norm(np.ptp(p, 0)))
            g = Geometry(p, smooth_normals(p, t), None, t)
            less = thin(g, len(t) // 4)
            self.assertLess(len(less.triangles), 0.7 * len(t))
            off = deviation(reference_of(g), less)
            before, after = (
                trimesh.Trimesh(x.positions, x.triangles, process=False) for x in (g, less)
            )
            there = trimesh.sample.sample_surface(before, 400, seed=1)[0]
            back = trimesh.sample.sample_surface(after, 400, seed=2)[0]
            far = max(
                float(trimesh.proximity.closest_point_naive(m, x)[1].max())
                for m, x in ((after, there), (before, back))
            )
            self.assertLessEqual(far, 1.001 * off.most)  # ours asks thirty times as many points
            self.assertLess(off.most, 0.03 * size)


class TestOddMeshes(unittest.TestCase):
    """Whatever comes in, something that can be drawn goes out."""

    def whole(self, g: Geometry, less: Geometry) -> None:
        self.assertTrue(np.isfinite(less.positions).all())
        np.testing.assert_allclose(np.linalg.norm(less.normals, axis=1), 1, atol=1e-5)
        self.assertTrue((less.triangles < len(less.positions)).all())
        self.assertLessEqual(len(less.triangles), len(g.triangles))
        for name in ("uvs", "second_uvs", "colors"):
            old, new = getattr(g, name), getattr(less, name)
            self.assertEqual(old is None, new is None)
            self.assertTrue(new is None or len(new) == len(less.positions))

    def test_one_triangle(self) -> None:
        g = grid(1)
        one = replace(g, triangles=g.triangles[:1])
        less = thin(one, 1)
        self.whole(one, less)
        self.assertEqual(len(less.triangles), 1)

    def test_triangles_twice_without_area_and_on_three_sides_of_an_edge(self) -> None:
        g = grid(12, 0.1)
        t = g.triangles
        fin = np.uint32([[t[0, 0], t[0, 1], 0], [t[5, 0], t[5, 0], t[5, 1]], [7, 7, 7]])
        odd = replace(g, triangles=np.concatenate([t, t[:40], fin, t[:10, [0, 2, 1]]]))
        self.whole(odd, thin(odd, 60))

    def test_places_that_are_no_numbers(self) -> None:
        g = grid(16, 0.1)
        assert g.uvs is not None
        uvs = g.uvs.copy()
        uvs[40:60] = np.nan
        odd = replace(g, uvs=uvs)
        less = thin(odd, 100)
        self.assertTrue(np.isfinite(less.positions).all())
        assert less.uvs is not None
        self.assertGreater(np.isfinite(less.uvs).all(1).mean(), 0.5)

    def test_facets_stay_facets(self) -> None:
        """A mesh whose triangles have normals of their own is thinned across them."""
        flat = shapes.ball(1.0, 24)
        corners = flat.triangles.reshape(-1)
        p = flat.positions[corners]
        t = np.arange(len(corners), dtype=np.uint32).reshape(-1, 3)
        faceted = Geometry(p, np.zeros_like(p), None, t)
        n = np.cross(p[1::3] - p[::3], p[2::3] - p[::3])
        long = np.linalg.norm(n, axis=1)
        keep = long > 1e-9
        n = n[keep] / long[keep][:, None]
        faceted = Geometry(
            p.reshape(-1, 3, 3)[keep].reshape(-1, 3),
            np.repeat(n, 3, 0).astype(np.float32),
            None,
            t[: int(keep.sum())],
        )
        less = thin(faceted, len(faceted.triangles) // 4)
        self.whole(faceted, less)
        self.assertLess(len(less.triangles), len(faceted.triangles) // 3)
        q = less.positions.reshape(-1, 3, 3).astype(float)
        own = np.cross(q[:, 1] - q[:, 0], q[:, 2] - q[:, 0])
        own /= np.linalg.norm(own, axis=1, keepdims=True)
        np.testing.assert_allclose(less.normals[::3], own, atol=1e-4)

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 10**6), st.integers(1, 60), st.integers(1, 30))
    def test_soups(self, seed: int, triangles: int, left: int) -> None:
        """Triangles between any corners at all."""
        rng = np.random.default_rng(seed)
        p = rng.integers(0, 4, (12, 3)).astype(np.float32)
        t = rng.integers(0, 12, (triangles, 3)).astype(np.uint32)
        g = Geometry(p, smooth_normals(p, t), p[:, :2].copy(), t, colors=np.ones((12, 4), "f4"))
        self.whole(g, thin(g, left))

    @settings(max_examples=15, deadline=None)
    @given(st.sampled_from([1e-4, 1.0, 1e4]), st.floats(-100, 100))
    def test_size_and_place_do_not_matter(self, size: float, to: float) -> None:
        g = lump(16, 7)
        p = (g.positions.astype(float) * size + to * size).astype(np.float32)
        moved = replace(g, positions=p)
        less = thin(moved, len(g.triangles) // 4)
        self.assertAlmostEqual(len(less.triangles), len(thin(g, 128).triangles), delta=40)
