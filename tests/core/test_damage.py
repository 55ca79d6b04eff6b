"""Files that are not what they say: each gets a message with a way on, and nothing stays."""

from __future__ import annotations

import io
import json
import struct
import zipfile
import zlib
from pathlib import Path
from typing import Any

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import read_exr, write_exr
from mill_lane.core.formats.opening import check_vertices, open_scene
from mill_lane.core.formats.pictures import read_header
from mill_lane.core.render.layers import exr_names
from tests.core.test_gltf import Folder
from tests.gltf_tools import TRIANGLE, glb, triangle
from tests.scenes import small_demo

QUICK = settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))


def huge_png(width: int, height: int) -> bytes:
    """A PNG whose header says a size that nobody should decode."""
    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    chunk = struct.pack(">I", 13) + b"IHDR" + head + struct.pack(">I", zlib.crc32(b"IHDR" + head))
    return b"\x89PNG\r\n\x1a\n" + chunk


class TestDamage(Folder):
    def refused(self, path: Path, *words: str) -> MillError:
        with self.assertRaises(MillError) as caught:
            check_vertices(open_scene(path))
        e = caught.exception
        self.assertTrue(e.hint.strip().endswith("."), e.hint)
        for word in words:
            self.assertIn(word, f"{e.message} {e.hint} {e.kept}")
        return e

    def test_not_a_scene(self) -> None:
        self.refused(
            self.file(b"\x89PNG\r\n\x1a\n" + b"x" * 100, "really.glb"), "really.glb", "Export"
        )

    def test_empty(self) -> None:
        self.refused(self.file(b""), "0 bytes")

    def test_cut_short_anywhere(self) -> None:
        whole = small_demo().read_bytes()
        for n in (3, 11, 19, 100, len(whole) // 2, len(whole) - 1):
            self.refused(self.file(whole[:n], f"cut{n}.glb"))

    def test_missing_file_beside_it(self) -> None:
        document, _ = triangle()
        document["buffers"][0]["uri"] = "gone.bin"
        path = self.file(json.dumps(document).encode(), "scene.gltf")
        self.refused(path, "gone.bin")

    def test_paths_that_leave_the_folder(self) -> None:
        self.file(TRIANGLE.tobytes(), "secret.bin")
        (self.folder / "link").symlink_to("/etc")
        for uri in (
            "../secret.bin",
            "/etc/passwd",
            "a/../../secret.bin",
            "link/passwd",
            "C:\\x.bin",
            "%2e%2e/secret.bin",
        ):
            document, _ = triangle()
            document["buffers"][0]["uri"] = uri
            path = self.file(json.dumps(document).encode(), "inner/scene.gltf")
            if uri.startswith("link"):
                path = self.file(json.dumps(document).encode(), "scene.gltf")
            self.refused(path, "outside" if "\\" not in uri else "")

    def test_zip_that_leaves_the_folder(self) -> None:
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as z:
            z.writestr("../evil.gltf", "{}")
        self.refused(self.file(packed.getvalue(), "scene.zip"), "outside")
        self.assertFalse((self.folder.parent / "evil.gltf").exists())

    def test_zip_without_a_scene(self) -> None:
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as z:
            z.writestr("readme.txt", "hello")
        self.refused(self.file(packed.getvalue(), "scene.zip"), "holds no scene file")

    def test_image_of_sixty_thousand_pixels(self) -> None:
        data = huge_png(60000, 60000)
        document, binary = triangle(
            images=[{"bufferView": 1, "mimeType": "image/png"}], textures=[{"source": 0}]
        )
        document["bufferViews"].append({"buffer": 0, "byteOffset": 36, "byteLength": len(data)})
        document["buffers"][0]["byteLength"] = 36 + len(data)
        self.refused(self.made(document, binary + data), "60000", "16384", "smaller")

    def test_nan_in_a_vertex(self) -> None:
        document, _ = triangle()
        points = TRIANGLE.copy()
        points[1, 2] = np.nan
        self.refused(self.made(document, points.tobytes()), "not a number", "Clean")

    def test_compressed_scenes_say_what_to_do(self) -> None:
        document, binary = triangle(extensionsRequired=["EXT_something_packed"])
        self.refused(self.made(document, binary), "EXT_something_packed", "without that extension")

    def test_what_is_required_is_told_before_anything_is_called_damaged(self) -> None:
        document, binary = triangle(extensionsRequired=["EXT_something_packed"])
        document["buffers"] = [{"byteLength": 10**6}, {"byteLength": 5}]
        document["nodes"] = "folded"
        self.refused(self.made(document, binary), "EXT_something_packed")

    def test_wrong_numbers(self) -> None:
        for change in (
            {"nodes": [{"mesh": 5}]},
            {"nodes": [{"mesh": 0, "children": [0]}]},
            {"nodes": [{"mesh": 0, "translation": [0, "x", 0]}]},
            {"nodes": [{"mesh": 0, "translation": [0, 1e999, 0]}]},
            {"nodes": [{"children": [1]}, {"children": [0], "mesh": 0}]},
            {"accessors": [{"bufferView": 0, "componentType": 5126, "count": 400, "type": "VEC3"}]},
            {"accessors": [{"bufferView": 0, "componentType": 9, "count": 3, "type": "VEC3"}]},
            {"accessors": [{"componentType": 5126, "count": 2**31 - 1, "type": "VEC3"}]},
            {"buffers": [{"byteLength": 3600}]},
            {"meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "material": 3}]}]},
            {"scenes": [{"nodes": [7]}]},
            {"meshes": 7},
            {"scenes": [{"nodes": []}]},
            {"asset": {"version": "1.0"}},
        ):
            document, binary = triangle(**change)
            self.refused(self.made(document, binary))

    def test_indices_beyond_the_vertices(self) -> None:
        document, binary = triangle()
        document["accessors"].append(
            {"bufferView": 1, "componentType": 5123, "count": 3, "type": "SCALAR"}
        )
        document["bufferViews"].append({"buffer": 0, "byteOffset": 36, "byteLength": 6})
        document["buffers"][0]["byteLength"] = 42
        document["meshes"][0]["primitives"][0]["indices"] = 1
        self.refused(self.made(document, binary + np.array([0, 1, 9], "<u2").tobytes()), "vertex 9")

    @QUICK
    @given(st.data())
    def test_any_bytes_changed(self, data: Any) -> None:
        """Whatever is wrong with the bytes, it ends with a scene or with a message."""
        whole = bytearray(small_demo().read_bytes()[: 1 << 17])
        for _ in range(data.draw(st.integers(1, 8))):
            at = data.draw(st.integers(0, min(len(whole), 40000) - 1))
            whole[at] = data.draw(st.integers(0, 255))
        path = self.file(bytes(whole), "changed.glb")
        try:
            check_vertices(open_scene(path))
        except MillError as e:
            self.assertTrue(e.message and e.hint)

    values = st.recursive(
        st.none() | st.booleans() | st.integers(-5, 2**33) | st.floats() | st.text(max_size=8),
        lambda x: (
            st.lists(x, max_size=3)
            | st.dictionaries(
                st.sampled_from(["nodes", "mesh", "count", "uri", "source"]), x, max_size=3
            )
        ),
        max_leaves=6,
    )

    @QUICK
    @given(
        st.sampled_from(
            [
                "nodes",
                "meshes",
                "accessors",
                "bufferViews",
                "buffers",
                "scenes",
                "materials",
                "images",
                "textures",
                "extensions",
                "animations",
                "cameras",
                "samplers",
            ]
        ),
        values,
    )
    def test_any_json(self, key: str, value: Any) -> None:
        document, binary = triangle()
        document["textures"], document["images"] = (
            [{"source": 0}],
            [{"uri": "data:image/png;base64,AAAA"}],
        )
        document[key] = value
        try:
            check_vertices(open_scene(self.file(glb(document, binary), "any.glb")))
        except MillError as e:
            self.assertTrue(e.message and e.hint)

    @QUICK
    @given(st.binary(max_size=200))
    def test_any_picture(self, data: bytes) -> None:
        for start in (b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff\xe0", b""):
            try:
                h = read_header(start + data, "any")
                self.assertTrue(0 < h.width <= 16384)
            except MillError as e:
                self.assertIn("any", e.message)


class TestEXR(Folder):
    def layers(self) -> dict[str, np.ndarray]:
        rng = np.random.default_rng(0)
        return {
            "beauty": rng.random((5, 7, 3)).astype(np.float32) * 100,
            "albedo": rng.random((5, 7, 3)).astype(np.float32),
            "normal": rng.random((5, 7, 3)).astype(np.float32),
            "depth": rng.random((5, 7)).astype(np.float32),
            "samples": np.full((5, 7), 9, np.float32),
        }

    def test_both_libraries_read_it(self) -> None:
        import OpenImageIO as oiio

        path, layers = self.folder / "a.exr", self.layers()
        turned = {**layers, "beauty": layers["beauty"][:, ::-1]}  # not contiguous
        write_exr(path, turned, names=exr_names())
        back = read_exr(path, exr_names())
        np.testing.assert_array_equal(back["beauty"], layers["beauty"][:, ::-1])
        for name in ("albedo", "normal", "depth", "samples"):
            np.testing.assert_array_equal(back[name], layers[name])
        buffer = oiio.ImageBuf(str(path))
        names = list(buffer.spec().channelnames)
        pixels = buffer.get_pixels(oiio.FLOAT)
        np.testing.assert_array_equal(pixels[..., names.index("R")], layers["beauty"][:, ::-1, 0])
        np.testing.assert_array_equal(pixels[..., names.index("distance")], layers["depth"])
        self.assertIn("albedo.G", names)

    def test_cut_short_or_not_an_exr(self) -> None:
        path = self.folder / "a.exr"
        write_exr(path, self.layers())
        data = path.read_bytes()
        for n in (0, 4, 100, len(data) // 2):
            with self.assertRaises(MillError):
                read_exr(self.file(data[:n], f"cut{n}.exr"))
