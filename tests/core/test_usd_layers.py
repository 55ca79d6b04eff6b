"""Stages of layers, payloads and variants go home as they were sent, with a layer over them.

Everything is looked at with `usd-core`, the reference library, as whoever gets the files would.
"""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdShade, UsdUtils

from mill_lane.core.formats.choices import parse_choices
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import decode, encode, write_pixels
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.scene.edit import remove_instances
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.shrink import shrink
from tests.usd_rules import complaints

HEAD = '#usda 1.0\n(\n    defaultPrim = "%s"\n    metersPerUnit = 0.01\n    upAxis = "Z"\n%s)\n'
QUAD = """
    def Mesh "%s" (
        prepend apiSchemas = ["MaterialBindingAPI"]
    )
    {
        uniform bool doubleSided = 1
        int[] faceVertexCounts = [4]
        int[] faceVertexIndices = [0, 1, 2, 3]
        point3f[] points = [(%d, 0, 0), (%d, 50, 0), (%d, 50, 50), (%d, 0, 50)]
        texCoord2f[] primvars:st = [(0, 0), (1, 0), (1, 1), (0, 1)] (interpolation = "vertex")
        uniform token subdivisionScheme = "none"
        rel material:binding = <%s>
    }
"""
CLOTH = """
    def Material "%(name)s"
    {
        token outputs:surface.connect = <%(path)s/surface.outputs:surface>
        def Shader "surface"
        {
            uniform token info:id = "UsdPreviewSurface"
            color3f inputs:diffuseColor.connect = <%(path)s/map.outputs:rgb>
            token outputs:surface
        }
        def Shader "map"
        {
            uniform token info:id = "UsdUVTexture"
            asset inputs:file = @%(file)s@
            float3 outputs:rgb
        }
    }
"""


def quad(name: str, x: int, material: str) -> str:
    return QUAD % (name, x, x, x, x, material)


def cloth(name: str, path: str, file: str) -> str:
    return CLOTH % {"name": name, "path": path, "file": file}


class Layered(unittest.TestCase):
    """A root with a sublayer, two instances of an asset, a payload, variants, and a prim of a kind
    that nobody knows.
    """

    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        self.sent = self.folder / "sent"
        for name in ("parts", "tex", "looks"):
            (self.sent / name).mkdir(parents=True)
        rng = np.random.default_rng(4)
        self.pixels = {
            name: rng.integers(0, 255, (32, 32, 3)).astype(np.uint8)
            for name in ("chair", "wall", "red", "blue", "stock")
        }
        for name, pixels in self.pixels.items():
            write_pixels(self.sent / "tex" / f"{name}.png", pixels)
        (self.sent / "parts/chair.usda").write_text(
            HEAD % ("Chair", "")
            + 'def Xform "Chair"\n{'
            + quad("seat", 0, "/Chair/wood")
            + cloth("wood", "/Chair/wood", "../tex/chair.png")
            + "}\n"
        )
        (self.sent / "parts/stock.usda").write_text(
            HEAD % ("Stock", "")
            + 'def Xform "Stock"\n{'
            + quad("sacks", 300, "/Stock/jute")
            + cloth("jute", "/Stock/jute", "../tex/stock.png")
            + "}\n"
        )
        (self.sent / "looks/lights.usda").write_text(
            HEAD % ("World", "") + 'over "World"\n{\n    def SphereLight "bulb"\n    {\n'
            "        float inputs:radius = 5\n    }\n}\n"
        )
        variants = "".join(
            f'        "{name}" {{\n'
            + cloth("paint", "/World/door/paint", f"./tex/{name}.png")
            + quad(f"leaf_{name}", 200, "/World/door/paint")
            + "        }\n"
            for name in ("red", "blue")
        )
        self.root = self.sent / "shop.usda"
        self.root.write_text(
            HEAD
            % (
                "World",
                "    subLayers = [@./looks/lights.usda@]\n    startTimeCode = 1\n"
                "    endTimeCode = 3\n",
            )
            + 'def Xform "World"\n{'
            + cloth("plaster", "/World/plaster", "./tex/wall.png")
            + quad("wall", 100, "/World/plaster")
            + quad("shelf", 400, "/World/plaster")
            + '    def Oven "oven"\n    {\n        float heat = 220\n    }\n'
            + "".join(
                f'    def "chair_{k}" (\n        instanceable = true\n'
                f"        references = @./parts/chair.usda@\n    )\n    {{\n"
                f"        double3 xformOp:translate = ({k}, 0, 0)\n"
                f'        uniform token[] xformOpOrder = ["xformOp:translate"]\n    }}\n'
                for k in range(2)
            )
            + '    def "stock" (payload = @./parts/stock.usda@)\n    {\n    }\n'
            + '    def Xform "door" (\n        variants = { string colour = "red" }\n'
            '        prepend variantSets = "colour"\n    )\n    {\n    variantSet "colour" = {\n'
            + variants
            + "    }\n    }\n}\n"
        )

    def kept(self, choose: str = "") -> Scene:
        """The scene as a job keeps it; what was sent is no longer looked at."""
        path = self.folder / f"kept{len(list(self.folder.glob('*.glb')))}.glb"
        write_glb(open_scene(self.root, choices=parse_choices(choose)), path)
        return open_scene(path, own=True)

    def trimmed(self, scene: Scene) -> Scene:
        """Every picture half as large, and the shelf left out."""
        scene = shrink(scene, dict.fromkeys(range(len(scene.images)), 16))[0]
        gone = [i for i, n in enumerate(scene.nodes) if n.name == "shelf"]
        return remove_instances(scene, gone)

    def sizes(self, stage: Usd.Stage) -> dict[str, int]:
        """The side of the picture that each material shows, by the material's name."""
        out = {}
        for prim in stage.TraverseAll():
            for child in Usd.PrimRange(prim, Usd.TraverseInstanceProxies()):
                if child.GetTypeName() == "Shader" and child.GetAttribute("inputs:file"):
                    asset = child.GetAttribute("inputs:file").Get()
                    data = Sdf.Layer and self.read(asset.resolvedPath)
                    out[child.GetParent().GetName()] = decode(data, "image/png").shape[0]
        return out

    def read(self, path: str) -> bytes:
        from pxr import Ar

        asset = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(path))
        self.assertIsNotNone(asset, path)
        return bytes(asset.GetBuffer())


class TestOverlay(Layered):
    def test_untouched_it_is_what_was_sent(self) -> None:
        """A small layer over the files as they came, byte for byte, and the same picture."""
        scene = self.kept()
        out = self.folder / "home" / "shop.usda"
        out.parent.mkdir()
        notes = save_scene(scene, out)
        self.assertEqual([n.level for n in notes if n.level == "lost"], [])
        for file in (p for p in self.sent.rglob("*") if p.is_file()):
            home = out.parent / "shop-stage" / file.relative_to(self.sent)
            self.assertEqual(home.read_bytes(), file.read_bytes(), file.name)
        self.assertLess(out.stat().st_size, 2000)
        self.assertFalse((out.parent / "shop-textures").exists())
        again = open_scene(out)
        self.assertEqual(sorted(n.name for n in again.nodes), sorted(n.name for n in scene.nodes))
        self.assertEqual(again.frames, (1, 3))

    def test_what_changed_goes_over_it(self) -> None:
        """In text, as a crate and in a package: edits are there, variants and payloads live on."""
        trimmed = self.trimmed(self.kept())
        for ending in ("usda", "usdc", "usdz"):
            with self.subTest(ending):
                out = self.folder / ending / f"out.{ending}"
                out.parent.mkdir()
                save_scene(trimmed, out)
                self.check(out)

    def check(self, out: Path) -> None:
        self.assertEqual(complaints(out), complaints(self.root))
        self.assertEqual(UsdUtils.ComputeAllDependencies(str(out))[2], [])
        stage = Usd.Stage.Open(str(out))
        self.assertEqual(UsdGeom.GetStageMetersPerUnit(stage), 0.01)
        self.assertEqual((UsdGeom.GetStageUpAxis(stage), stage.GetEndTimeCode()), ("Z", 3.0))
        self.assertEqual(str(stage.GetDefaultPrim().GetPath()), "/World")
        self.assertFalse(stage.GetPrimAtPath("/World/shelf").IsActive())
        self.assertEqual(stage.GetPrimAtPath("/World/oven").GetTypeName(), "Oven")
        self.assertTrue(stage.GetPrimAtPath("/World/bulb"))
        self.assertTrue(stage.GetPrimAtPath("/World/chair_0").IsInstance())
        self.assertEqual([str(p) for p in stage.FindLoadable()], ["/World/stock"])
        sizes = self.sizes(stage)
        self.assertEqual(sizes, {"plaster": 16, "wood": 16, "jute": 16, "paint": 16})
        door = stage.GetPrimAtPath("/World/door").GetVariantSet("colour")
        self.assertEqual(
            (door.GetVariantNames(), door.GetVariantSelection()), (["blue", "red"], "red")
        )
        # What is trimmed holds for the variant that was drawn; the other has its own picture.
        self.assertTrue(stage.GetPrimAtPath("/World/door/leaf_red"))
        door.SetVariantSelection("blue")
        self.assertTrue(stage.GetPrimAtPath("/World/door/leaf_blue"))

    def test_flattened_when_asked(self) -> None:
        trimmed = self.trimmed(self.kept())
        for ending in ("usda", "usdz"):
            out = self.folder / f"flat.{ending}"
            notes = save_scene(trimmed, out, flat=True)
            self.assertIn("variants_flattened", [n.code for n in notes])
            self.assertEqual(complaints(out), complaints(self.root))
            stage = Usd.Stage.Open(str(out))
            self.assertEqual(len([x for x in stage.GetUsedLayers() if not x.anonymous]), 1)
            self.assertFalse(stage.GetPrimAtPath("/World/door").HasVariantSets())
            self.assertEqual(UsdUtils.ComputeAllDependencies(str(out))[2], [])
            self.assertEqual(len(open_scene(out).instances), len(trimmed.instances))

    def test_another_variant_and_a_payload_left_out(self) -> None:
        """As it was opened it goes home: the selection, and the payload for whoever loads it."""
        scene = self.kept("colour=blue, -/World/stock")
        self.assertEqual(scene.stage_variants, (("colour", "blue"),))
        self.assertEqual([(s.name, s.drawn) for s in scene.variant_sets], [("colour", "blue")])
        self.assertNotIn("sacks", [n.name for n in scene.nodes])
        save_scene(self.trimmed(scene), self.folder / "out.usda")
        stage = Usd.Stage.Open(str(self.folder / "out.usda"))
        door = stage.GetPrimAtPath("/World/door").GetVariantSet("colour")
        self.assertEqual(door.GetVariantSelection(), "blue")
        self.assertEqual([str(p) for p in stage.FindLoadable()], ["/World/stock"])
        self.assertEqual(self.sizes(stage)["jute"], 32)

    def test_pictures_are_kept_once(self) -> None:
        """The job's file holds each picture for drawing and for going home, in one place."""
        noise = np.random.default_rng(1).integers(0, 255, (512, 512, 3)).astype(np.uint8)
        large = encode(noise, "image/png")
        (self.sent / "tex" / "wall.png").write_bytes(large)
        self.kept()
        size = (self.folder / "kept0.glb").stat().st_size
        self.assertLess(size, 1.5 * len(large))

    def test_thinned_meshes_that_instances_share(self) -> None:
        """Written where they are shared, once, told; and in place for a mesh that is not."""
        scene = self.kept()
        half = {}
        for k, mesh in enumerate(scene.meshes):
            if mesh.name in ("seat", "wall"):
                (p,) = mesh.parts
                g = p.load()
                cut = replace(g, triangles=g.triangles[:1])
                half[k] = replace(mesh, parts=(replace(p, triangles=1, load=lambda g=cut: g),))
        meshes = tuple(half.get(k, m) for k, m in enumerate(scene.meshes))
        notes = save_scene(replace(scene, meshes=meshes), self.folder / "out.usda")
        self.assertIn("shared_layer_changed", [n.code for n in notes])
        stage = Usd.Stage.Open(str(self.folder / "out.usda"))
        for path in ("/World/wall", "/World/chair_0/seat", "/World/chair_1/seat"):
            mesh = UsdGeom.Mesh(stage.GetPrimAtPath(path))
            self.assertEqual(list(mesh.GetFaceVertexCountsAttr().Get()), [3], path)
            material, _ = UsdShade.MaterialBindingAPI(mesh.GetPrim()).ComputeBoundMaterial()
            self.assertTrue(material)
        self.assertEqual(
            (self.sent / "parts/chair.usda").read_text().count("[4]"), 1
        )  # what was sent is as it was
