"""What is common in glTF files from elsewhere: compression, copies, variants, lost parts.

Compressed streams are those of the reference encoders: DracoPy for Draco, and for meshopt the
package of that name (its output is kept here as bytes).
"""

from __future__ import annotations

import base64
import contextlib
import json
import struct
import tempfile
import unittest
import zlib
from dataclasses import replace
from pathlib import Path
from typing import Any

import DracoPy
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf import read_scene, write_glb
from mill_lane.core.formats.gltf.meshopt import decoded
from mill_lane.core.formats.gltf.variants import variant_names, with_variant
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.scene.pose import world_matrices
from mill_lane.demo import shapes


class Builder:
    """A GLB, accessor by accessor."""

    def __init__(self) -> None:
        self.binary = b""
        self.json: dict[str, Any] = {
            "asset": {"version": "2.0"},
            "scene": 0,
            "scenes": [{"nodes": [0]}],
            "nodes": [{"mesh": 0}],
            "bufferViews": [],
            "accessors": [],
        }

    def view(self, data: bytes, **more: Any) -> int:
        self.binary += b"\0" * (-len(self.binary) % 4)
        at = len(self.binary)
        self.binary += data
        self.json["bufferViews"].append(
            {"buffer": 0, "byteOffset": at, "byteLength": len(data), **more}
        )
        return len(self.json["bufferViews"]) - 1

    def accessor(self, values: np.ndarray, **more: Any) -> int:
        kinds = {"f4": 5126, "u4": 5125, "u2": 5123, "u1": 5121}
        width = 1 if values.ndim == 1 else int(np.prod(values.shape[1:]))
        entry = {
            "bufferView": self.view(np.ascontiguousarray(values).tobytes()),
            "componentType": kinds[values.dtype.str[1:]],
            "count": len(values),
            "type": {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}[width],
            **more,
        }
        if width == 3 and values.dtype == np.float32:
            entry |= {"min": values.min(0).tolist(), "max": values.max(0).tolist()}
        self.json["accessors"].append(entry)
        return len(self.json["accessors"]) - 1

    def save(self, path: Path) -> Path:
        self.json["buffers"] = [{"byteLength": len(self.binary)}, *self.json.pop("more", [])]
        text = json.dumps(self.json).encode()
        text += b" " * (-len(text) % 4)
        binary = self.binary + b"\0" * (-len(self.binary) % 4)
        total = 12 + 8 + len(text) + 8 + len(binary)
        path.write_bytes(
            struct.pack("<4sII", b"glTF", 2, total)
            + struct.pack("<II", len(text), 0x4E4F534A)
            + text
            + struct.pack("<II", len(binary), 0x004E4942)
            + binary
        )
        return path


BALL = shapes.ball(0.5, 12)


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)

    def ball(self, b: Builder) -> dict[str, Any]:
        return {
            "attributes": {
                "POSITION": b.accessor(BALL.positions),
                "NORMAL": b.accessor(BALL.normals),
            },
            "indices": b.accessor(BALL.triangles.reshape(-1)),
        }


class TestDraco(Folder):
    def test_it_is_decoded_and_handed_back_as_it_was(self) -> None:
        data = DracoPy.encode(
            BALL.positions, BALL.triangles, quantization_bits=16, normals=BALL.normals.astype(float)
        )
        mesh = DracoPy.decode(data)
        numbers = {a["attribute_type"]: a["unique_id"] for a in mesh.attributes}
        b = Builder()
        packed = b.view(data)
        n, t = len(mesh.points), len(mesh.faces)
        lo, hi = mesh.points.min(0).tolist(), mesh.points.max(0).tolist()
        b.json["accessors"] = [
            {"componentType": 5126, "count": n, "type": "VEC3", "min": lo, "max": hi},
            {"componentType": 5126, "count": n, "type": "VEC3"},
            {"componentType": 5125, "count": 3 * t, "type": "SCALAR"},
        ]
        draco = {"bufferView": packed, "attributes": {"POSITION": numbers[0], "NORMAL": numbers[1]}}
        b.json["meshes"] = [
            {
                "primitives": [
                    {
                        "attributes": {"POSITION": 0, "NORMAL": 1},
                        "indices": 2,
                        "extensions": {"KHR_draco_mesh_compression": draco},
                    }
                ]
            }
        ]
        b.json["extensionsUsed"] = b.json["extensionsRequired"] = ["KHR_draco_mesh_compression"]
        scene = read_scene(b.save(self.folder / "packed.glb"))
        g = scene.meshes[0].parts[0].load()
        self.assertEqual((len(g.triangles), len(g.positions)), (t, n))
        np.testing.assert_allclose(np.linalg.norm(g.positions, axis=1), 0.5, atol=1e-3)
        write_glb(scene, self.folder / "again.glb")
        again = read_scene(self.folder / "again.glb").meshes[0].parts[0].load()
        np.testing.assert_array_equal(again.positions, g.positions)

    def test_a_damaged_stream_is_told(self) -> None:
        b = Builder()
        packed = b.view(b"DRACO" + b"\7" * 60)
        b.json["accessors"] = [
            {"componentType": 5126, "count": 3, "type": "VEC3", "min": [0] * 3, "max": [1] * 3}
        ]
        draco = {"bufferView": packed, "attributes": {"POSITION": 0}}
        b.json["meshes"] = [
            {
                "primitives": [
                    {
                        "attributes": {"POSITION": 0},
                        "extensions": {"KHR_draco_mesh_compression": draco},
                    }
                ]
            }
        ]
        scene = read_scene(b.save(self.folder / "damaged.glb"))
        with self.assertRaisesRegex(MillError, "Draco"):
            scene.meshes[0].parts[0].load()


# The package's encoder over 64 vertices of 16 bytes (four sines as float32, EXT edition), a grid of
# 8 x 8 squares as triangles, and the same numbers as a sequence; compressed once more for brevity.
MESHOPT: dict[str, str] = json.loads((Path(__file__).parent / "meshopt.json").read_text())


def stream(name: str) -> bytes:
    return zlib.decompress(base64.b64decode(MESHOPT[name]))


class TestMeshopt(Folder):
    def test_attributes(self) -> None:
        raw = decoded(stream("attributes"), 64, 16, "ATTRIBUTES", "NONE")
        self.assertEqual(raw, stream("raw"))

    def test_triangles_and_indices(self) -> None:
        grid = np.frombuffer(stream("grid"), np.uint32).reshape(-1, 3)
        found = np.frombuffer(
            decoded(stream("triangles"), grid.size, 4, "TRIANGLES", "NONE"), np.uint32
        )
        # The encoder may turn a triangle round, never over.
        turned = np.array([np.roll(t, -t.argmin()) for t in found.reshape(-1, 3)])
        np.testing.assert_array_equal(turned, [np.roll(t, -t.argmin()) for t in grid])
        numbers = decoded(stream("indices"), grid.size, 4, "INDICES", "NONE")
        self.assertEqual(numbers, stream("grid"))

    def test_filters(self) -> None:
        normals = np.frombuffer(stream("normals"), np.float32).reshape(-1, 4)[:, :3]
        for name, kind, top, near in (("oct8", "i1", 127, 0.02), ("oct16", "i2", 32767, 1e-3)):
            raw = decoded(
                stream(name), len(normals), 4 * np.dtype(kind).itemsize, "ATTRIBUTES", "OCTAHEDRAL"
            )
            found = np.frombuffer(raw, kind).reshape(-1, 4)[:, :3] / top
            np.testing.assert_allclose(found, normals, atol=near)
        raw = decoded(stream("exponents"), len(normals), 16, "ATTRIBUTES", "EXPONENTIAL")
        found = np.frombuffer(raw, np.float32).reshape(-1, 4)[:, :3]
        np.testing.assert_allclose(found, normals, atol=2e-4)

    @settings(max_examples=80, deadline=None)
    @given(st.data())
    def test_damage_is_told_and_nothing_worse(self, data: st.DataObject) -> None:
        name, count, stride, mode = data.draw(
            st.sampled_from(
                [
                    ("attributes", 64, 16, "ATTRIBUTES"),
                    ("triangles", 384, 4, "TRIANGLES"),
                    ("indices", 384, 4, "INDICES"),
                ]
            )
        )
        whole = bytearray(stream(name))
        for _ in range(data.draw(st.integers(1, 4))):
            whole[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
        cut = bytes(whole[: data.draw(st.integers(0, len(whole)))])
        with contextlib.suppress(ValueError):
            self.assertEqual(len(decoded(cut, count, stride, mode, "NONE")), count * stride)

    def test_in_a_file_and_out_again(self) -> None:
        """Unpacked where it is written, since the streams belong to buffers that are no more."""
        b = Builder()
        data = stream("attributes")
        b.view(data)
        b.json["more"] = [
            {"byteLength": 1024, "extensions": {"EXT_meshopt_compression": {"fallback": True}}}
        ]
        said = {
            "buffer": 0,
            "byteOffset": 0,
            "byteLength": len(data),
            "byteStride": 16,
            "count": 64,
            "mode": "ATTRIBUTES",
        }
        b.json["bufferViews"].append(
            {
                "buffer": 1,
                "byteLength": 1024,
                "byteStride": 16,
                "extensions": {"EXT_meshopt_compression": said},
            }
        )
        raw = np.frombuffer(stream("raw"), np.float32).reshape(-1, 4)[:, :3]
        lo, hi = raw.min(0).tolist(), raw.max(0).tolist()
        b.json["accessors"] = [
            {
                "bufferView": 1,
                "componentType": 5126,
                "count": 64,
                "type": "VEC3",
                "min": lo,
                "max": hi,
            }
        ]
        order = b.accessor(np.arange(63, dtype=np.uint32))
        b.json["meshes"] = [{"primitives": [{"attributes": {"POSITION": 0}, "indices": order}]}]
        b.json["extensionsUsed"] = b.json["extensionsRequired"] = ["EXT_meshopt_compression"]
        scene = read_scene(b.save(self.folder / "packed.glb"))
        first = scene.meshes[0].parts[0].load().positions
        np.testing.assert_array_equal(first, raw[:63])
        write_glb(scene, self.folder / "again.glb")
        again = read_scene(self.folder / "again.glb")
        np.testing.assert_array_equal(again.meshes[0].parts[0].load().positions, first)
        assert again.origin is not None
        self.assertNotIn("extensionsRequired", again.origin.document.json)


class TestCopies(Folder):
    def instanced(self) -> Path:
        b = Builder()
        b.json["meshes"] = [{"primitives": [self.ball(b)]}]
        where = np.stack([np.arange(300), np.zeros(300), np.zeros(300)], 1).astype(np.float32)
        said = {"attributes": {"TRANSLATION": b.accessor(where)}}
        b.json["nodes"] = [
            {"mesh": 0, "name": "hedge", "extensions": {"EXT_mesh_gpu_instancing": said}}
        ]
        b.json["extensionsUsed"] = ["EXT_mesh_gpu_instancing"]
        return b.save(self.folder / "hedge.glb")

    def test_all_are_placed_and_written_as_they_came(self) -> None:
        scene = read_scene(self.instanced())
        self.assertEqual(len(scene.instances), 300)
        last = world_matrices(scene, 0.0)[scene.instances[-1][0]]
        self.assertEqual(last[0, 3], 299.0)
        write_glb(scene, self.folder / "again.glb")
        again = read_scene(self.folder / "again.glb")
        self.assertEqual(len(again.instances), 300)
        self.assertEqual(len(again.origin.document.json["nodes"]), 1)

    def test_with_one_taken_out_they_are_nodes(self) -> None:
        scene = read_scene(self.instanced())
        nodes = tuple(n for n in scene.nodes if n.name != "hedge 7")
        write_glb(replace(scene, nodes=nodes), self.folder / "fewer.glb")
        self.assertEqual(len(read_scene(self.folder / "fewer.glb").instances), 299)


class TestTheRest(Folder):
    def test_variants(self) -> None:
        b = Builder()
        primitive = self.ball(b) | {"material": 0}
        primitive["extensions"] = {
            "KHR_materials_variants": {"mappings": [{"material": 1, "variants": [1]}]}
        }
        b.json["meshes"] = [{"primitives": [primitive]}]
        b.json["materials"] = [{"name": "rye"}, {"name": "spelt"}]
        b.json["extensions"] = {
            "KHR_materials_variants": {"variants": [{"name": "dark"}, {"name": "light"}]}
        }
        b.json["extensionsUsed"] = ["KHR_materials_variants"]
        scene = read_scene(b.save(self.folder / "loaf.glb"))
        self.assertEqual(variant_names(scene), ["dark", "light"])
        self.assertIn("dark, light", " ".join(n.text for n in scene.notes))
        self.assertEqual(with_variant(scene, "light").meshes[0].parts[0].material, 1)
        with self.assertRaisesRegex(MillError, "no variant"):
            with_variant(scene, "burnt")

    def test_a_picture_that_is_not_decoded_is_kept(self) -> None:
        b = Builder()
        data = b"\xabKTX 20\xbb\r\n\x1a\n" + bytes(200)
        picture = b.view(data)
        b.json["images"] = [{"bufferView": picture, "mimeType": "image/ktx2", "name": "crust"}]
        b.json["textures"] = [{"extensions": {"KHR_texture_basisu": {"source": 0}}}]
        b.json["materials"] = [{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}]
        b.json["meshes"] = [{"primitives": [self.ball(b) | {"material": 0}]}]
        b.json["extensionsUsed"] = ["KHR_texture_basisu"]
        scene = open_scene(b.save(self.folder / "ktx.glb"))
        self.assertTrue(scene.images[0].missing)
        self.assertIn("Export with PNG or JPEG", " ".join(n.text for n in scene.notes))
        write_glb(scene, self.folder / "again.glb")
        self.assertIn(data, (self.folder / "again.glb").read_bytes())

    def test_kinds_that_are_not_read_are_known_by_their_bytes(self) -> None:
        for name, start, kind in (
            ("a.glb", b"Kaydara FBX Binary  \0\x1a\0", "FBX"),
            ("b.glb", b"Ogawa\xff\0\1", "Alembic"),
            ("c.obj", b"<?xml version='1.0'?><COLLADA>", "COLLADA"),
            ("d.fbx", b"; FBX 7.3.0", "FBX"),
        ):
            (self.folder / name).write_bytes(start)
            with self.assertRaises(MillError) as caught:
                open_scene(self.folder / name)
            self.assertIn(kind, caught.exception.message)
            self.assertIn("Export", caught.exception.hint)
