"""Variants chosen and payloads left out, in USD and glTF."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.choices import Choices, parse_choices
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.scene.model import Scene
from tests.gltf_tools import glb, triangle

SQUARE = """
    int[] faceVertexCounts = [4]
    int[] faceVertexIndices = [0, 1, 2, 3]
    point3f[] points = [(0,0,0), (SIZE,0,0), (SIZE,SIZE,0), (0,SIZE,0)]
    uniform token subdivisionScheme = "none"
"""
STAGE = """#usda 1.0
(
    metersPerUnit = 1
    upAxis = "Y"
)
def Xform "shop" (
    variants = { string size = "small" }
    prepend variantSets = "size"
)
{
    variantSet "size" = {
        "small" {
            def Mesh "counter" {
                %s
            }
        }
        "large" (
            variants = { string doors = "open" }
            prepend variantSets = "doors"
        ) {
            def Mesh "counter" {
                %s
            }
            variantSet "doors" = {
                "open" {
                }
                "shut" {
                    def Mesh "door" {
                        %s
                    }
                }
            }
        }
    }
}
def Xform "trees" (prepend payload = @./trees.usda@</trees>)
{
}
""" % tuple(SQUARE.replace("SIZE", str(n)) for n in (1, 3, 2))  # noqa: UP031
TREES = '#usda 1.0\ndef Xform "trees" {\ndef Mesh "oak" {' + SQUARE.replace("SIZE", "5") + "}\n}\n"


def sides(scene: Scene) -> dict[str, float]:
    """How wide each mesh is."""
    return {m.name: m.parts[0].bounds_max[0] for m in scene.meshes}


class TestWritten(unittest.TestCase):
    def test_how_choices_are_written(self) -> None:
        self.assertFalse(parse_choices(" , "))
        found = parse_choices("look = red, autumn, -/World/Trees/")
        self.assertEqual(found, Choices((("look", "red"), ("", "autumn")), ("/World/Trees",)))
        for wrong in ("look=", "-Trees", "- /World"):
            with self.assertRaises(MillError) as caught:
                parse_choices(wrong)
            self.assertTrue(caught.exception.hint)


class TestStage(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        self.shop = self.folder / "shop.usda"
        self.shop.write_text(STAGE)
        (self.folder / "trees.usda").write_text(TREES)

    def chosen(self, text: str) -> Scene:
        return open_scene(self.shop, choices=parse_choices(text))

    def test_as_it_is_and_what_there_is(self) -> None:
        scene = open_scene(self.shop)
        self.assertEqual(sides(scene), {"counter": 1, "oak": 5})
        said = " ".join(n.text for n in scene.notes)
        self.assertIn("size: large, small", said)
        self.assertIn("drawn as size=small", said)
        self.assertIn("1 payload, all loaded: /trees", said)

    def test_a_variant_by_its_set_or_by_its_name(self) -> None:
        for text in ("size=large", "large"):
            self.assertEqual(sides(self.chosen(text)), {"counter": 3, "oak": 5})

    def test_a_variant_within_a_variant_in_any_order(self) -> None:
        for text in ("large, doors=shut", "doors=shut, large"):
            self.assertEqual(sides(self.chosen(text)), {"counter": 3, "door": 2, "oak": 5})
        with self.assertRaises(MillError) as caught:
            self.chosen("doors=shut")  # the small shop has none
        self.assertIn("size: large, small", caught.exception.hint)

    def test_a_payload_left_out(self) -> None:
        self.assertEqual(sides(self.chosen("-/trees")), {"counter": 1})
        with self.assertRaises(MillError) as caught:
            self.chosen("-/tree")
        self.assertIn("/trees", caught.exception.hint)

    def test_what_was_chosen_is_handed_back(self) -> None:
        write_glb(self.chosen("large, shut"), self.folder / "kept.glb")
        save_scene(open_scene(self.folder / "kept.glb", own=True), self.folder / "back.usda")
        again = open_scene(self.folder / "back.usda")
        self.assertEqual(sides(again), {"counter": 3, "door": 2, "oak": 5})

    def test_a_format_without_any(self) -> None:
        (self.folder / "a.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
        with self.assertRaises(MillError):
            open_scene(self.folder / "a.obj", choices=parse_choices("red"))


class TestDocument(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        name = "KHR_materials_variants"
        root, binary = triangle(
            materials=[{"name": "oak"}, {"name": "pine"}],
            extensionsUsed=[name],
            extensions={name: {"variants": [{"name": "Autumn"}, {"name": "Winter"}]}},
        )
        primitive = root["meshes"][0]["primitives"][0]
        primitive["material"] = 0
        primitive["extensions"] = {name: {"mappings": [{"material": 1, "variants": [1]}]}}
        (self.folder / "a.glb").write_bytes(glb(root, binary))

    def worn(self, path: Path, text: str = "") -> str:
        scene = open_scene(path, choices=parse_choices(text))
        return scene.materials[scene.meshes[0].parts[0].material].name

    def test_in_its_materials_and_kept_so(self) -> None:
        file = self.folder / "a.glb"
        for text, wood in (("", "oak"), ("Autumn", "oak"), ("Winter", "pine")):
            self.assertEqual(self.worn(file, text), wood)
            scene = open_scene(file, choices=parse_choices(text))
            write_glb(scene, self.folder / "kept.glb")
            self.assertEqual(self.worn(self.folder / "kept.glb"), wood)
        with self.assertRaises(MillError) as caught:
            self.worn(file, "Summer")
        self.assertIn("Autumn, Winter", caught.exception.hint)
        self.assertIn("Autumn, Winter", " ".join(n.text for n in open_scene(file).notes))
