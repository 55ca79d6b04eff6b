"""glTF 2.0:

what is read against the specification's own rules, what is written against the validator.
"""

from __future__ import annotations

import io
import json
import math
import tempfile
import unittest
import zipfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf import open_document, read_scene, write_glb
from mill_lane.core.formats.gltf.accessors import read_accessor, read_floats
from mill_lane.core.formats.opening import check_vertices, open_scene
from mill_lane.core.formats.pictures import decode, encode
from mill_lane.core.scene.edit import replace_images
from mill_lane.core.scene.model import Channel, Light, Material, Node, Texture, TextureUse
from mill_lane.core.scene.pose import world_matrices
from mill_lane.core.scene.surroundings import Medium
from mill_lane.core.trim.shrink import shrink
from mill_lane.demo import shapes
from tests.gltf_tools import TRIANGLE, glb, triangle, validate
from tests.scenes import even_sky, floor, picture, scene_of, small_demo


class Folder(unittest.TestCase):
    """A temporary folder for each test."""

    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)

    def file(self, data: bytes, name: str = "scene.glb") -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        return path

    def made(self, document: dict[str, Any], binary: bytes = b"") -> Path:
        return self.file(glb(document, binary))


class TestReading(Folder):
    def test_a_triangle(self) -> None:
        scene = read_scene(self.made(*triangle()))
        part = scene.meshes[0].parts[0]
        self.assertEqual((part.triangles, part.bounds_max), (1, (1.0, 1.0, 0.0)))
        g = part.load()
        np.testing.assert_array_equal(g.positions, TRIANGLE)
        # Section 3.7.2.1: without normals, flat ones are made.
        np.testing.assert_allclose(g.normals, [[0, 0, 1]] * 3)

    def test_strided_and_normalised_accessors(self) -> None:
        """Sections 3.6.2.2 and 3.6.2.4: interleaved data; c / 255, c / 65535, max(c / 127, -1)."""
        rows = np.zeros(4, dtype=[("p", "<f4", 3), ("uv", "<u2", 2), ("b", "i1", 4)])
        rows["p"], rows["uv"], rows["b"] = (
            np.arange(12).reshape(4, 3),
            [[0, 65535]] * 4,
            [[-128, -127, 0, 127]] * 4,
        )
        document, _ = triangle()
        document["bufferViews"] = [{"buffer": 0, "byteLength": 80, "byteStride": 20}]
        document["buffers"] = [{"byteLength": 80}]
        document["accessors"] = [
            {"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3"},
            {
                "bufferView": 0,
                "byteOffset": 12,
                "componentType": 5123,
                "normalized": True,
                "count": 4,
                "type": "VEC2",
            },
            {
                "bufferView": 0,
                "byteOffset": 16,
                "componentType": 5120,
                "normalized": True,
                "count": 4,
                "type": "VEC4",
            },
        ]
        opened = open_document(self.made(document, rows.tobytes()))
        np.testing.assert_array_equal(read_floats(opened, 0, 3), rows["p"])
        np.testing.assert_array_equal(read_floats(opened, 1, 2), [[0, 1]] * 4)
        np.testing.assert_allclose(read_floats(opened, 2, 4), [[-1, -1, 0, 1]] * 4)

    def test_sparse(self) -> None:
        """Section 3.6.2.3: some values replaced; without a bufferView the rest are zeros."""
        indices, values = np.array([1, 3], "<u2"), np.array([[5.0, 6, 7], [8, 9, 10]], "<f4")
        document, _ = triangle()
        document["buffers"] = [{"byteLength": 28}]
        document["bufferViews"] = [
            {"buffer": 0, "byteLength": 4},
            {"buffer": 0, "byteOffset": 4, "byteLength": 24},
        ]
        sparse = {
            "count": 2,
            "indices": {"bufferView": 0, "componentType": 5123},
            "values": {"bufferView": 1},
        }
        document["accessors"] = [
            {"componentType": 5126, "count": 4, "type": "VEC3", "sparse": sparse}
        ]
        got = read_accessor(
            open_document(self.made(document, indices.tobytes() + values.tobytes())), 0
        )
        np.testing.assert_array_equal(got, [[0, 0, 0], [5, 6, 7], [0, 0, 0], [8, 9, 10]])

    def test_strips_and_fans(self) -> None:
        """Section 3.7.2.1: p_i = {v_i, v_(i+1+i%2), v_(i+2-i%2)} and {v_(i+1), v_(i+2), v_0}."""
        points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]], "<f4")
        for mode, want in ((5, [[0, 1, 2], [1, 3, 2]]), (6, [[1, 2, 0], [2, 3, 0]])):
            document, _ = triangle()
            document["accessors"][0] |= {"count": 4}
            document["bufferViews"][0]["byteLength"] = document["buffers"][0]["byteLength"] = 48
            document["meshes"][0]["primitives"][0]["mode"] = mode
            g = read_scene(self.made(document, points.tobytes())).meshes[0].parts[0].load()
            np.testing.assert_array_equal(g.positions[g.triangles], points[np.array(want)])

    def test_transforms(self) -> None:
        """Section 3.5.3: T * R * S, parents first; a column-major matrix instead."""
        q = [0, math.sin(math.pi / 4), 0, math.cos(math.pi / 4)]  # a quarter turn about Y
        moved = np.eye(4)
        moved[:3, 3] = (0, 0, 10)
        document, binary = triangle()
        document["nodes"] = [
            {"translation": [1, 2, 3], "rotation": q, "scale": [2, 2, 2], "children": [1]},
            {"matrix": moved.T.reshape(-1).tolist(), "mesh": 0},
        ]
        matrices = world_matrices(read_scene(self.made(document, binary)), 0.0)
        np.testing.assert_allclose(matrices[1] @ [1, 0, 0, 1], [1 + 20, 2, 3 - 2, 1], atol=1e-9)

    def test_keyframes(self) -> None:
        """Appendix C:

        LINEAR, STEP and CUBICSPLINE, held before and after their ends; the shorter way for turns.
        """
        times = np.array([0.0, 1.0, 2.0])
        values = np.array([[0.0, 0, 0], [2, 0, 0], [2, 4, 0]])
        tangents = np.stack([np.zeros((3, 3)), values, np.zeros((3, 3))], 1).reshape(-1, 3)
        for kind, data, middle in (
            ("LINEAR", values, (1.0, 0, 0)),
            ("STEP", values, (0.0, 0, 0)),
            ("CUBICSPLINE", tangents, (1.0, 0, 0)),
        ):
            node = Node("n", channels=(Channel("translation", kind, times, data),))
            scene = scene_of((floor(), Material()))
            scene = replace(scene, nodes=(node,))
            np.testing.assert_allclose(world_matrices(scene, 0.5)[0, :3, 3], middle, atol=1e-12)
            np.testing.assert_allclose(world_matrices(scene, -1)[0, :3, 3], (0, 0, 0))
            np.testing.assert_allclose(world_matrices(scene, 9)[0, :3, 3], (2, 4, 0))
        half = math.sqrt(0.5)
        turn = np.array(
            [[0.0, 0, 0, 1], [0, -half, 0, -half]]
        )  # the second is a quarter turn with its sign flipped
        node = Node("n", channels=(Channel("rotation", "LINEAR", times[:2], turn),))
        m = world_matrices(replace(scene_of((floor(), Material())), nodes=(node,)), 0.5)[0]
        np.testing.assert_allclose(
            m[:3, 0], [math.cos(math.pi / 4), 0, -math.sin(math.pi / 4)], atol=1e-9
        )

    def test_zip_and_folder(self) -> None:
        document, binary = triangle()
        document["buffers"][0]["uri"] = "data/tri%20angle.bin"
        text = json.dumps(document).encode()
        self.file(binary, "data/tri angle.bin")
        self.assertEqual(read_scene(self.file(text, "scene.gltf")).meshes[0].triangles, 1)
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as z:
            z.writestr("my scene/scene.gltf", text)
            z.writestr("my scene/data/tri angle.bin", binary)
        scene = open_scene(self.file(packed.getvalue(), "scene.zip"))
        self.assertEqual(len(scene.meshes[0].parts[0].load().positions), 3)

    def test_what_is_not_understood_is_listed(self) -> None:
        document, binary = triangle(
            extensionsUsed=["EXT_something_new", "KHR_materials_iridescence"],
            materials=[{"extensions": {"KHR_materials_iridescence": {}}}] * 3,
        )
        document["meshes"][0]["primitives"].append({"attributes": {"POSITION": 0}, "mode": 1})
        notes = " ".join(n.text for n in read_scene(self.made(document, binary)).notes)
        for word in ("EXT_something_new", "iridescence (3 times)", "thin films", "lines"):
            self.assertIn(word, notes)

    def test_scene_without_camera_and_light(self) -> None:
        scene = open_scene(self.made(*triangle()))
        self.assertTrue(
            scene.cameras[0].added and scene.environment is not None and scene.environment.added
        )
        self.assertEqual(sum(n.level == "look" for n in scene.notes), 2)
        # The camera that was added sees all of it.
        from mill_lane.core.weigh.measure import weigh

        self.assertTrue(all(m.in_view for m in weigh(scene).meshes))


class TestWriting(Folder):
    def rich(self) -> Any:
        glass = Material(
            "glass",
            roughness=0.0,
            metallic=0.0,
            transmission=1.0,
            thickness=0.1,
            ior=1.4,
            attenuation_distance=0.5,
        )
        cloth = Material(
            "cloth",
            (0.5, 0.6, 0.7, 0.9),
            0.1,
            0.8,
            emissive=(3.0, 2.0, 1.0),
            alpha_mode="MASK",
            alpha_cutoff=0.3,
            double_sided=True,
            base_texture=TextureUse(0, offset=(0.1, 0.2), rotation=0.3, scale=(2, 3)),
            normal_texture=TextureUse(1, strength=0.5),
        )
        scene = scene_of(
            (shapes.ball(1.0, 16), glass),
            (floor(2.0), cloth),
            environment=even_sky(0.3),
            lights=((Light("spot", "spot", (1, 0.5, 0.2), 7.0, 12.0, 0.2, 0.5), np.eye(4)),),
            media=(Medium("fog", (0, 0, 0), (1, 1, 1), 0.5),),
            frames=(5, 20),
        )
        move = Channel(
            "translation", "LINEAR", np.array([0.0, 1.0]), np.array([[0.0, 0, 0], [1, 2, 3]])
        )
        nodes = (replace(scene.nodes[0], channels=(move,)), *scene.nodes[1:])
        return replace(
            scene,
            nodes=nodes,
            images=(picture(8), picture(8, bits=16, name="deep")),
            textures=(Texture("a", 0, "mirror", "clamp"), Texture("b", 1)),
        )

    def test_round_trip_and_validator(self) -> None:
        scene = self.rich()
        path = self.folder / "out.glb"
        write_glb(scene, path)
        issues = validate(path)
        self.assertEqual((issues["numErrors"], issues["numWarnings"]), (0, 0), issues["messages"])
        back = read_scene(path)
        for a, b in zip(scene.materials, back.materials, strict=True):
            self.assertEqual(replace(a, emissive=(0, 0, 0)), replace(b, emissive=(0, 0, 0)))
            np.testing.assert_allclose(a.emissive, b.emissive, rtol=1e-6)
        self.assertEqual(
            (back.lights, back.media, back.environment, back.frames, back.textures),
            (scene.lights, scene.media, scene.environment, scene.frames, scene.textures),
        )
        self.assertEqual([(i.width, i.bits) for i in back.images], [(8, 8), (8, 16)])
        for m, n in zip(scene.meshes, back.meshes, strict=True):
            p, q = m.parts[0].load(), n.parts[0].load()
            np.testing.assert_array_equal(p.positions, q.positions)
            np.testing.assert_array_equal(p.triangles, q.triangles)
        np.testing.assert_allclose(world_matrices(back, 0.5), world_matrices(scene, 0.5), atol=1e-6)

    def test_the_demo_passes_the_validator(self) -> None:
        issues = validate(small_demo())
        self.assertEqual((issues["numErrors"], issues["numWarnings"]), (0, 0), issues["messages"])

    def test_a_trimmed_scene_keeps_what_was_not_understood(self) -> None:
        scene = self.rich()
        path, out = self.folder / "in.glb", self.folder / "out.glb"
        write_glb(scene, path)
        document = open_document(path)
        document.json["extensionsUsed"].append("EXT_something_new")
        document.json["nodes"][0]["extensions"] = {"EXT_something_new": {"depth": 7}}
        document.json["extras"] = {"made by": "hand"}
        trimmed, changes = shrink(read_scene_of(document), {0: 4, 1: 2})
        write_glb(trimmed, out)
        self.assertEqual([(c.old, c.new) for c in changes], [((8, 8), (4, 4)), ((8, 8), (2, 2))])
        written = open_document(out)
        self.assertEqual(
            written.json["nodes"][0]["extensions"], {"EXT_something_new": {"depth": 7}}
        )
        self.assertEqual(written.json["extras"], {"made by": "hand"})
        back = read_scene(out)
        self.assertEqual([(i.width, i.bits) for i in back.images], [(4, 8), (2, 16)])
        self.assertEqual(decode(back.images[1].read(), "image/png").dtype, np.uint16)
        np.testing.assert_array_equal(
            back.meshes[0].parts[0].load().positions, scene.meshes[0].parts[0].load().positions
        )
        self.assertEqual(validate(out)["numErrors"], 0)

    def test_a_missing_texture_is_grey_and_remembered(self) -> None:
        document, binary = triangle(
            images=[{"uri": "gone.png"}],
            textures=[{"source": 0}],
            materials=[{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}],
        )
        document["buffers"][0]["uri"] = "tri.bin"
        self.file(binary, "tri.bin")
        scene = read_scene(self.file(json.dumps(document).encode(), "scene.gltf"))
        self.assertTrue(scene.images[0].missing)
        out = self.folder / "out.glb"
        write_glb(scene, out)
        self.assertEqual(validate(out)["numErrors"], 0)
        back = read_scene(out)
        self.assertTrue(back.images[0].missing)
        self.assertIn("gone.png", back.notes[0].text)

    def test_nothing_half_written_stays(self) -> None:
        scene = self.rich()
        broken = replace(scene.images[0], file_bytes=10**6)
        with self.assertRaises(MillError):
            write_glb(replace_images(scene, {0: broken}), self.folder / "out.glb")
        self.assertEqual(list(self.folder.iterdir()), [])


def read_scene_of(document: Any) -> Any:
    from mill_lane.core.formats.gltf import scene_from

    return scene_from(document)


class TestMeshes(Folder):
    """Areas, volumes and bounds against closed forms and trimesh."""

    def test_shapes(self) -> None:
        ball, box = shapes.ball(1.0, 128), shapes.box((1, 2, 3), 3)
        for g, area, volume in ((ball, 4 * math.pi, 4 / 3 * math.pi), (box, 22.0, 6.0)):
            mesh = trimesh.Trimesh(g.positions, g.triangles)
            self.assertAlmostEqual(mesh.area / area, 1.0, delta=2e-3)
            self.assertAlmostEqual(mesh.volume / volume, 1.0, delta=3e-3)

    def test_bounds_and_counts_of_the_demo(self) -> None:
        """Every mesh of the bakery:

        trimesh reads the same triangles, areas and bounds from the same file.
        """
        loaded = trimesh.load(small_demo(), process=False)
        scene = read_scene(small_demo())
        theirs = sum(len(g.faces) for g in loaded.geometry.values())
        self.assertEqual(sum(m.triangles for m in scene.meshes), theirs)
        from mill_lane.core.weigh.measure import mesh_area

        ours = sum(mesh_area(p) for m in scene.meshes for p in m.parts)
        self.assertAlmostEqual(ours / sum(g.area for g in loaded.geometry.values()), 1.0, places=4)
        from mill_lane.core.scene.framing import world_bounds

        lo, hi = world_bounds(scene)
        # Ours go round each part's turned box, so they are never smaller.
        self.assertTrue(
            (lo <= loaded.bounds[0] + 1e-4).all() and (hi >= loaded.bounds[1] - 1e-4).all()
        )

    def test_check_vertices_accepts_the_demo(self) -> None:
        check_vertices(read_scene(small_demo()))

    def test_pictures_survive(self) -> None:
        for bits in (8, 16):
            image = picture(16, 4, bits)
            again = decode(encode(decode(image.read(), "image/png"), "image/png"), "image/png")
            np.testing.assert_array_equal(again, decode(image.read(), "image/png"))
