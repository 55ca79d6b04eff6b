"""Damaged mesh files: a message with a way on, whatever stands in them."""

from __future__ import annotations

import io
import tempfile
import unittest
from pathlib import Path

import numpy as np
import trimesh
from hypothesis import given
from hypothesis import strategies as st

from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import check_vertices, open_scene
from tests.core.test_meshes import CUBE, MTL, QUICK, area, world_triangles


class TestDamage(unittest.TestCase):
    """Whatever is wrong with a file:

    it is read, or refused with a way on; never a crash, never a hang.
    """

    def survive(self, data: bytes, ending: str) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / f"x.{ending}"
            path.write_bytes(data)
            try:
                check_vertices(open_scene(path))
            except MillError as e:
                self.assertTrue(e.hint)

    def broken(self, good: bytes, ending: str) -> None:
        @QUICK
        @given(st.integers(0, len(good)), st.integers(0, 40), st.binary(max_size=40))
        def run(at: int, cut: int, junk: bytes) -> None:
            self.survive(good[:at] + junk + good[at + cut :], ending)

        run()

    def test_obj(self) -> None:
        self.broken(CUBE.encode(), "obj")

    def test_mtl(self) -> None:
        @QUICK
        @given(st.integers(0, len(MTL)), st.text(max_size=30))
        def run(at: int, junk: str) -> None:
            with tempfile.TemporaryDirectory() as folder:
                (Path(folder) / "cube.mtl").write_text(
                    MTL[:at] + junk + MTL[at:], "utf-8", "replace"
                )
                (Path(folder) / "x.obj").write_text(CUBE)
                try:
                    open_scene(Path(folder) / "x.obj")
                except MillError as e:
                    self.assertTrue(e.hint)

        run()

    def test_ply_and_stl(self) -> None:
        mesh = trimesh.creation.icosphere(0)
        for how in ("binary", "ascii"):
            self.broken(mesh.export(file_type="ply", encoding=how), "ply")
        self.broken(mesh.export(file_type="stl"), "stl")
        self.broken(trimesh.exchange.stl.export_stl_ascii(mesh).encode(), "stl")

    @QUICK
    @given(st.binary(max_size=200), st.sampled_from(["obj", "ply", "stl", "zip"]))
    def test_anything(self, data: bytes, ending: str) -> None:
        self.survive(data, ending)

    def test_numbers_nobody_can_mean(self) -> None:
        self.survive(
            b"ply\nformat ascii 1.0\nelement vertex 2147483647\nproperty float x\nend_header\n",
            "ply",
        )
        self.survive(
            b"ply\nformat binary_little_endian 1.0\nelement face 2000000000\n"
            b"property list uint int vertex_indices\nend_header\n\xff\xff\xff\xff",
            "ply",
        )
        self.survive(b"ply\nformat ascii 1.0\nelement vertex 2000000000\nend_header\n", "ply")
        self.survive(b"\0" * 80 + b"\xff\xff\xff\xff" + b"\0" * 50, "stl")
        self.survive(b"v 0 0 0\nv 1 0 0\nv 0 1e400 0\nf 1 2 3\n", "obj")
        self.survive(b"v 0 0 0\nf 1 99999999999999999999 1\n", "obj")

    def test_names_no_file_can_have(self) -> None:
        for name in (b"a\0b.mtl", b"x" * 300, b"y/" * 3000 + b"z", b"\xff\xfe"):
            self.survive(b"mtllib " + name + b"\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "obj")

    def test_lists_of_many_lengths(self) -> None:
        """A binary PLY with a triangle, a quad and a face of two: read row by row."""
        out = io.BytesIO()
        out.write(
            b"ply\nformat binary_big_endian 1.0\nelement vertex 5\nproperty float x\nproperty "
            b"float y\nproperty float z\n"
        )
        out.write(
            b"element face 3\nproperty list uchar int vertex_index\nproperty uchar flag\n"
            b"end_header\n"
        )
        out.write(
            np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [2, 0, 0]], ">f4").tobytes()
        )
        for face in ([0, 1, 2, 3], [0, 1], [1, 4, 2]):
            out.write(bytes([len(face)]) + np.array(face, ">i4").tobytes() + b"\1")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.ply"
            path.write_bytes(out.getvalue())
            scene = open_scene(path)
            self.assertEqual(sum(m.triangles for m in scene.meshes), 3)
            self.assertAlmostEqual(area(world_triangles(scene)), 1.5)
