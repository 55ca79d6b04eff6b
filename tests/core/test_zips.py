"""ZIPs as people make them: on other systems, with other spellings, with scenes that refer to
others.
"""

from __future__ import annotations

import json
import pickle
import tempfile
import unicodedata
import unittest
import zipfile
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from mill_lane.core.errors import MillError
from mill_lane.core.formats.choices import parse_choices
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.sought import UNPACKED, sought
from mill_lane.core.formats.unpack import SeveralError
from mill_lane.core.scene.model import Scene
from tests.scenes import picture

HEAD = '#usda 1.0\n(\n    defaultPrim = "W"\n    metersPerUnit = 1\n    upAxis = "Y"\n%s)\n'
MESH = """def Xform "W"
{
    def Mesh "%s"
    {
        int[] faceVertexCounts = [3]
        int[] faceVertexIndices = [0, 1, 2]
        point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
    }
}
"""
PART = HEAD % "" + MESH % "part"
MTL = "newmtl paint\nKd 1 1 1\nmap_Kd %s\n"
OBJ = "mtllib %s\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\nusemtl paint\nf 1/1 2/2 3/3\n"
PNG = picture(8).read()


def payload(path: str) -> str:
    """A stage that has nothing but a payload, and a layer below it."""
    return HEAD % "" + f'def Xform "W"\n{{\n    def Xform "a" (payload = @{path}@) {{}}\n}}\n'


class TestZips(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.path = Path(keep.name) / "sent.zip"

    def sent(self, **files: str | bytes) -> Path:
        return self.packed({k.replace("__", ".").replace("_in_", "/"): v for k, v in files.items()})

    def packed(self, files: dict[str, str | bytes]) -> Path:
        with zipfile.ZipFile(self.path, "w") as z:
            for name, data in files.items():
                z.writestr(name, data)
        return self.path

    def opened(self, files: dict[str, str | bytes], choose: str = "") -> Scene:
        return open_scene(self.packed(files), choices=parse_choices(choose))

    def textured(self, scene: Scene) -> None:
        self.assertEqual([i.missing for i in scene.images], [False])

    def test_the_root_is_what_no_other_refers_to(self) -> None:
        """With payloads and layers beside it, below it and above it, in text and crate."""
        sub = HEAD % "    subLayers = [@look.usda@]\n"
        root = sub + 'def Xform "W"\n{\n    def Xform "a" (payload = @chair.usda@) {}\n}\n'
        beside = {"scene.usda": root, "chair.usda": PART, "look.usda": HEAD % ""}
        self.assertEqual(len(self.opened(beside).meshes), 1)
        below = {"shots/main.usda": payload("../parts/chair.usda"), "parts/chair.usda": PART}
        self.assertEqual(len(self.opened(below).meshes), 1)
        nested = {"a/b/c/main.usda": payload("chair.usda"), "a/b/c/chair.usda": PART}
        nested |= {"__MACOSX/a/b/c/._main.usda": b"\0\1", "a/.DS_Store": b"x", "._m.usda": b"\0"}
        self.assertEqual(len(self.opened(nested).meshes), 1)

    def test_what_lies_above_the_root_goes_home_as_well(self) -> None:
        """Everything within the ZIP is the scene's own."""
        dome = 'def DomeLight "d"\n{\n    asset inputs:texture:file = @../light/sky.hdr@\n}\n'
        scene = self.opened({"shots/main.usda": PART + dome, "light/sky.hdr": b"#?RADIANCE"})
        write_glb(scene, self.path.with_name("kept.glb"))
        kept = open_scene(self.path.with_name("kept.glb"), own=True)
        self.assertEqual(list(kept.stage_files), ["light/sky.hdr"])

    def test_several_are_asked_about(self) -> None:
        files = {"one.usda": payload("x/p.usda"), "two.usda": PART, "x/p.usda": PART}
        with self.assertRaises(SeveralError) as caught:
            self.opened(files)
        self.assertEqual(caught.exception.roots, ["one.usda", "two.usda"])
        self.assertEqual(pickle.loads(pickle.dumps(caught.exception)).roots, caught.exception.roots)
        self.assertEqual(json.loads(json.dumps(caught.exception.as_json()))["roots"][0], "one.usda")
        self.assertEqual(self.opened(files, "@two.usda").meshes[0].name, "part")
        with self.assertRaises(SeveralError):
            self.opened(files, "@gone.usda")
        circle = {"a.usda": payload("b.usda"), "b.usda": payload("a.usda")}
        with self.assertRaises(MillError):
            self.opened(circle)

    def test_written_on_another_system(self) -> None:
        """Backslashes between folders, in the ZIP and in what names files."""
        files = {"top\\scene.obj": OBJ % "mats\\m.mtl", "top\\mats\\m.mtl": MTL % "..\\tex\\a.png"}
        self.textured(self.opened({**files, "top\\tex\\a.png": PNG}))

    def test_spelt_otherwise(self) -> None:
        """Capitals, percent signs, Unicode forms, paths of another disk: found, and told."""
        decomposed = unicodedata.normalize("NFD", "Körnung.png")
        for named, packed in (
            ("Tex/Wood.PNG", "tex/wood.png"),
            ("tex/my%20wood.png", "tex/my wood.png"),
            ("tex/Körnung.png", f"tex/{decomposed}"),
            ("C:\\Users\\me\\tex\\wood.png", "maps/wood.png"),
            ("/home/me/tex/wood.png", "maps/wood.png"),
            ("../elsewhere/wood.png", "maps/deep/wood.png"),
        ):
            with self.subTest(named=named):
                scene = self.opened({"a.obj": OBJ % "m.mtl", "m.mtl": MTL % named, packed: PNG})
                self.textured(scene)
                notes = [n.text for n in scene.notes if n.code == "found_otherwise"]
                self.assertEqual(len(notes), 1)
                self.assertIn(named.replace("\\", "/"), notes[0])

    def test_layers_spelt_otherwise(self) -> None:
        files = {"main.usda": payload("Parts/Chair.usda"), "parts/chair.usda": PART}
        scene = self.opened(files)
        self.assertEqual(len(scene.meshes), 1)
        self.assertIn("found_otherwise", [n.code for n in scene.notes])
        files = {"main.usda": payload("/mnt/jobs/chair.usda"), "parts/chair.usda": PART}
        self.assertEqual(len(self.opened(files).meshes), 1)

    def test_gltf(self) -> None:
        data = {
            "asset": {"version": "2.0"},
            "scene": 0,
            "scenes": [{"nodes": [0]}],
            "nodes": [{"mesh": 0}],
            "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
            "buffers": [{"uri": "C:\\out\\Mesh.bin", "byteLength": 36}],
            "bufferViews": [{"buffer": 0, "byteLength": 36}],
            "accessors": [
                {
                    "bufferView": 0,
                    "componentType": 5126,
                    "count": 3,
                    "type": "VEC3",
                    "min": [0, 0, 0],
                    "max": [0, 0, 0],
                }
            ],
        }
        scene = self.opened({"x/a.gltf": json.dumps(data), "x/mesh.bin": bytes(36)})
        self.assertEqual(scene.meshes[0].triangles, 1)
        self.assertIn("found_otherwise", [n.code for n in scene.notes])

    def test_two_of_a_name_are_not_guessed(self) -> None:
        files = {"a.obj": OBJ % "m.mtl", "m.mtl": MTL % "/there/wood.png"}
        scene = self.opened({**files, "x/wood.png": PNG, "y/wood.png": PNG})
        self.assertEqual([i.missing for i in scene.images], [True])

    def test_hostile_ones_are_refused(self) -> None:
        for name in ("../out.obj", "..\\out.obj", "/etc/out.obj", "a/../../out.obj"):
            with self.subTest(name), self.assertRaises(MillError):
                self.opened({name: OBJ % "m.mtl"})


class TestSought(unittest.TestCase):
    def test_a_part_of_a_scene_may_look_beside_itself(self) -> None:
        """What lies in a folder below names files from beside it, within the scene's own."""
        with tempfile.TemporaryDirectory() as name:
            scene = Path(name) / "scene"
            (scene / "parts").mkdir(parents=True)
            (scene / "tex.png").write_bytes(b"x")
            found = sought(scene / "parts", "../tex.png", scene)
            self.assertEqual((found.path, found.otherwise), ((scene / "tex.png").resolve(), False))
            with self.assertRaises(MillError):
                sought(scene / "parts", "../tex.png")

    @settings(max_examples=200, deadline=None)
    @given(
        st.lists(st.sampled_from(["..", ".", "in", "IN", "secret.txt", "a%2e", "\\", "%2e%2e"]))
        .map("/".join)
        .flatmap(lambda n: st.sampled_from([n, "/" + n, n.replace("/", "\\")]))
    )
    def test_nothing_outside_is_found(self, name: str) -> None:
        with tempfile.TemporaryDirectory() as above:
            (Path(above) / "secret.txt").write_text("x")
            for top in ("plain", f"{UNPACKED}x"):
                folder = Path(above) / top / "in"
                folder.mkdir(parents=True)
                (folder / "link.txt").symlink_to(Path(above) / "secret.txt")
                for asked in (name, "link.txt", "../link.txt"):
                    try:
                        found = sought(folder, asked).path
                    except MillError:
                        continue
                    self.assertTrue(found.resolve().is_relative_to((Path(above) / top).resolve()))
