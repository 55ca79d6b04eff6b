"""Polygons as triangles, colours of vertices, and OBJ with its maps in and out."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from mill_lane.core.formats.meshes import read_obj, read_ply
from mill_lane.core.formats.meshes.polygons import cut
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import decode, write_pixels
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.image.srgb import to_linear


def areas(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    c = points[triangles]
    return np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0]) / 2


class TestPolygons(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(
        st.lists(st.floats(0.2, 1.0), min_size=4, max_size=16),
        st.tuples(*[st.floats(-3, 3)] * 2),
    )
    def test_stars_keep_area_and_side(self, radii: list[float], tilt: tuple[float, float]) -> None:
        """Any polygon that sees its middle, tilted any way (shoelace formula)."""
        n = len(radii)
        angle = 2 * math.pi * np.arange(n) / n
        flat = np.stack([radii * np.cos(angle), radii * np.sin(angle), 0 * angle], 1)
        a, b = tilt
        turn = np.array([[1, 0, 0], [0, math.cos(a), -math.sin(a)], [0, math.sin(a), math.cos(a)]])
        turn = turn @ [[math.cos(b), 0, math.sin(b)], [0, 1, 0], [-math.sin(b), 0, math.cos(b)]]
        points = flat @ turn.T
        triangles = cut(np.array([n]), points)
        self.assertEqual(len(triangles), n - 2)
        found = areas(points, triangles)
        x, y = flat[:, 0], flat[:, 1]
        whole = float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum()) / 2
        self.assertAlmostEqual(float(np.linalg.norm(found, axis=1).sum()), whole, places=6)
        self.assertTrue(((found @ (turn @ [0, 0, 1.0])) >= -1e-9).all())

    def test_many_at_once(self) -> None:
        """An arrow among squares: its triangles stand where its own were."""
        square = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0.0]])
        arrow = np.array([[0, 0, 0], [2, 0, 0], [0.5, 0.5, 0], [0, 2, 0.0]])
        points = np.concatenate([square, arrow, square + np.array([0, 0, 1.0])])
        triangles = cut(np.array([4, 4, 4]), points)
        self.assertEqual([set(t // 4) for t in triangles], [{0}, {0}, {1}, {1}, {2}, {2}])
        self.assertAlmostEqual(float(areas(points, triangles)[2:4, 2].sum()), 1.0)
        self.assertTrue((areas(points, triangles)[:, 2] > 0).all())


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)


class TestColours(Folder):
    def test_obj(self) -> None:
        path = self.folder / "tinted.obj"
        path.write_text("v 0 0 0 1 0 0\nv 1 0 0 0 1 0\nv 0 1 0 0.5 0.5 0.5\nf -3 -2 -1\n")
        scene = open_scene(path)
        g = scene.meshes[0].parts[0].load()
        assert g.colors is not None
        np.testing.assert_allclose(g.colors[:2, :3], [[1, 0, 0], [0, 1, 0]], atol=1e-6)
        self.assertAlmostEqual(float(g.colors[2, 0]), float(to_linear(np.array(0.5))), places=5)
        save_scene(scene, self.folder / "again.obj")
        again = open_scene(self.folder / "again.obj").meshes[0].parts[0].load()
        np.testing.assert_allclose(again.colors, g.colors, atol=1e-4)

    def test_ply_of_8_and_16_bits_and_numbers(self) -> None:
        for kind, values in (
            ("uchar", "255 0 51"),
            ("ushort", "65535 0 13107"),
            ("float", "1 0 0.2"),
        ):
            path = self.folder / f"{kind}.ply"
            rows = "".join(f"{x} {y} 0 {values}\n" for x, y in ((0, 0), (1, 0), (0, 1)))
            path.write_text(
                "ply\nformat ascii 1.0\nelement vertex 3\n"
                + "".join(f"property float {n}\n" for n in "xyz")
                + "".join(f"property {kind} {n}\n" for n in ("red", "green", "blue"))
                + "element face 1\nproperty list uchar int vertex_indices\nend_header\n"
                + rows
                + "3 0 1 2\n"
            )
            colors = read_ply(path).meshes[0].parts[0].load().colors
            assert colors is not None
            expected = to_linear(np.array([1.0, 0.0, 0.2]))
            np.testing.assert_allclose(colors[0, :3], expected, atol=1e-4, err_msg=kind)


class TestMaps(Folder):
    def test_metal_and_roughness_come_back(self) -> None:
        """map_Pr and map_Pm in, one picture inside, two out, and the same again."""
        ramp = np.arange(64, dtype=np.uint8).reshape(8, 8, 1) * 4
        write_pixels(self.folder / "rough.png", ramp)
        write_pixels(self.folder / "metal.png", 255 - ramp)
        (self.folder / "tool.mtl").write_text(
            "newmtl steel\nKd 0.5 0.5 0.5\nPr 0.9\nPm 0\nmap_Pr rough.png\nmap_Pm metal.png\n"
        )
        path = self.folder / "tool.obj"
        path.write_text(
            "mtllib tool.mtl\nusemtl steel\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\n"
            "f 1/1 2/2 3/3\n"
        )
        scene = read_obj(path)
        steel = scene.materials[0]
        self.assertEqual((steel.roughness, steel.metallic), (1.0, 1.0))
        self.assertEqual(len(scene.images), 1)  # what it was put together from is not listed
        pixels = decode(scene.images[0].read(), scene.images[0].mime)
        np.testing.assert_array_equal(pixels[..., 1], ramp[..., 0])
        np.testing.assert_array_equal(pixels[..., 2], 255 - ramp[..., 0])
        (self.folder / "out").mkdir()
        save_scene(scene, self.folder / "out" / "again.obj")
        again = read_obj(self.folder / "out" / "again.obj")
        found = decode(again.images[0].read(), again.images[0].mime)
        np.testing.assert_array_equal(found[..., 1:], pixels[..., 1:])
        # For programs that read no such maps the factors are their means, not black metal.
        text = (self.folder / "out" / "again.mtl").read_text()
        mean = float(ramp.mean()) / 255
        said = dict(line.split(maxsplit=1) for line in text.splitlines() if line)
        self.assertAlmostEqual(float(said["Pr"]), mean, places=4)
        self.assertAlmostEqual(float(said["Pm"]), 1 - mean, places=4)

    def test_lines_that_go_on_and_blocks(self) -> None:
        """A file far larger than a block, with faces that count back and lines that go on."""
        rows = []
        for k in range(30_000):
            rows.append(f"v {k} 0 0\nv {k + 1} 0 0\nv {k} 1 0\nf -3 \\\n -2 -1\n")
        path = self.folder / "long.obj"
        path.write_text("".join(rows))
        scene = read_obj(path)
        self.assertEqual(scene.meshes[0].triangles, 30_000)
        self.assertEqual(scene.meshes[0].parts[0].bounds_max[0], 30_000.0)
