"""A stage that comes in and goes out again keeps what it was: paths, kinds, lights, materials.

Held against `usd-core`, the reference library, on both sides of the round trip.
"""

from __future__ import annotations

import tempfile
import unittest
from collections import Counter
from dataclasses import replace
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, Vt

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import encode
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.shrink import shrink
from tests.usd_rules import complaints


def picture(folder: Path, name: str, colour: tuple[int, ...], size: int = 64) -> None:
    pixels = np.broadcast_to(np.uint8(colour), (size, size, len(colour)))
    (folder / name).write_bytes(encode(np.ascontiguousarray(pixels), "image/png"))


def textured(stage: Usd.Stage, path: str, inputs: dict[str, tuple[str, str, tuple]]) -> None:
    material = UsdShade.Material.Define(stage, path)
    shader = UsdShade.Shader.Define(stage, f"{path}/surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    for key, (file, channel, scale) in inputs.items():
        texture = UsdShade.Shader.Define(stage, f"{path}/{key}_map")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(file)
        texture.CreateInput("scale", Sdf.ValueTypeNames.Float4).Set(scale)
        kind = Sdf.ValueTypeNames.Float3 if channel == "rgb" else Sdf.ValueTypeNames.Float
        texture.CreateOutput(channel, kind)
        shader.CreateInput(key, kind).ConnectToSource(texture.ConnectableAPI(), channel)


def studio(folder: Path) -> Path:
    """Centimetres, Z up: instances, a point instancer, a creased cage, lights of every shape."""
    picture(folder, "wood.png", (120, 80, 40))
    picture(folder, "rough.png", (200,) * 3)
    picture(folder, "metal.png", (10,) * 3)
    path = folder / "studio.usda"
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, "/Studio").GetPrim())
    textured(
        stage,
        "/Studio/Looks/Oak",
        {
            "diffuseColor": ("wood.png", "rgb", (0.5, 0.5, 0.5, 1)),
            "roughness": ("rough.png", "r", (0.6, 0.6, 0.6, 1)),
            "metallic": ("metal.png", "r", (0, 0, 0, 0)),
        },
    )
    textured(stage, "/Studio/Looks/Wall", {"diffuseColor": ("gone.png", "rgb", (1, 1, 1, 1))})
    cage = UsdGeom.Mesh.Define(stage, "/Studio/Set/Table")
    cage.CreatePointsAttr([(-50, -50, 0), (50, -50, 0), (50, 50, 0), (-50, 50, 0)])
    cage.CreateFaceVertexCountsAttr([4])
    cage.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
    cage.CreateCreaseIndicesAttr([0, 1])
    cage.CreateCreaseLengthsAttr([2])
    cage.CreateCreaseSharpnessesAttr([3.5])
    st = UsdGeom.PrimvarsAPI(cage).CreatePrimvar(
        "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex
    )
    st.Set([(0, 0), (1, 0), (1, 1), (0, 1)])
    UsdShade.MaterialBindingAPI.Apply(cage.GetPrim()).Bind(
        UsdShade.Material.Get(stage, "/Studio/Looks/Oak")
    )
    wall = UsdGeom.Cube.Define(stage, "/Studio/Set/Wall")
    wall.CreateSizeAttr(40.0)
    UsdShade.MaterialBindingAPI.Apply(wall.GetPrim()).Bind(
        UsdShade.Material.Get(stage, "/Studio/Looks/Wall")
    )
    scatter = UsdGeom.PointInstancer.Define(stage, "/Studio/Crumbs")
    ball = UsdGeom.Sphere.Define(stage, "/Studio/Crumbs/protos/Crumb")
    ball.CreateRadiusAttr(1.0)
    UsdGeom.PrimvarsAPI(ball).CreatePrimvar(
        "displayColor", Sdf.ValueTypeNames.Color3fArray, UsdGeom.Tokens.constant
    ).Set([(0.8, 0.5, 0.2)])
    scatter.CreatePrototypesRel().AddTarget(ball.GetPath())
    scatter.CreatePositionsAttr([(3 * i, 0, 5) for i in range(2000)])
    scatter.CreateProtoIndicesAttr(Vt.IntArray([0] * 2000))
    curve = UsdGeom.BasisCurves.Define(stage, "/Studio/Thread")
    curve.CreatePointsAttr([(0, 0, 0), (1, 1, 1), (2, 0, 0), (3, 1, 1)])
    curve.CreateCurveVertexCountsAttr([4])
    for i in range(3):
        prim = stage.DefinePrim(f"/Studio/Set/Copy{i}")
        prim.GetReferences().AddInternalReference("/Studio/Set/Table")
        prim.SetInstanceable(True)
        UsdGeom.Xformable(prim).AddTranslateOp().Set(Gf.Vec3d(0, 0, 30 * (i + 1)))
    panel = UsdLux.RectLight.Define(stage, "/Studio/Lights/Panel")
    panel.CreateWidthAttr(60)
    panel.CreateHeightAttr(30)
    panel.CreateIntensityAttr(500)
    UsdLux.SphereLight.Define(stage, "/Studio/Lights/Bulb").CreateRadiusAttr(4.0)
    UsdLux.DiskLight.Define(stage, "/Studio/Lights/Disk").CreateRadiusAttr(8.0)
    UsdLux.DistantLight.Define(stage, "/Studio/Lights/Sun").CreateIntensityAttr(3.0)
    UsdLux.DomeLight.Define(stage, "/Studio/Lights/Dome").CreateIntensityAttr(0.4)
    camera = UsdGeom.Camera.Define(stage, "/Studio/Cam")
    camera.CreateFStopAttr(2.8)
    camera.CreateFocusDistanceAttr(320)
    camera.AddTranslateOp().Set(Gf.Vec3d(0, -300, 100))
    stage.GetRootLayer().Save()
    return path


class TestBack(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.temporary = tempfile.TemporaryDirectory()
        cls.folder = Path(cls.temporary.name)
        cls.path = studio(cls.folder)
        cls.scene = open_scene(cls.path)
        # As it lies in a home: written as GLB, and read as our own from then on.
        write_glb(cls.scene, cls.folder / "kept.glb")
        cls.kept = open_scene(cls.folder / "kept.glb", own=True)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.temporary.cleanup()

    def back(self, scene: Scene, name: str = "back.usda") -> Usd.Stage:
        save_scene(scene, self.folder / name)
        return Usd.Stage.Open(str(self.folder / name))

    def test_what_is_read(self) -> None:
        oak = next(m for m in self.scene.materials if m.name == "Oak")
        self.assertEqual((oak.base_color[:3], oak.metallic), ((0.5, 0.5, 0.5), 0.0))
        self.assertAlmostEqual(oak.roughness, 0.6, places=6)
        camera = next(c for c in self.scene.cameras if c.name == "Cam")
        self.assertAlmostEqual(camera.f_stop, 2.8, places=5)
        self.assertAlmostEqual(camera.focus_distance, 3.2, places=5)
        texts = " ".join(n.text for n in self.scene.notes)
        self.assertNotIn("“”", texts)  # internal references name no file
        self.assertIn("“Thread” are not drawn: they have no widths", texts)
        self.assertIn("gone.png", texts)

    def test_paths_kinds_and_copies(self) -> None:
        first = Usd.Stage.Open(str(self.path))
        before = {str(p.GetPath()): p.GetTypeName() for p in first.Traverse()}
        stage = self.back(self.kept)
        after = {str(p.GetPath()): p.GetTypeName() for p in stage.Traverse()}
        for path, kind in before.items():
            self.assertEqual(after.get(path), kind, path)
        self.assertEqual(UsdGeom.GetStageUpAxis(stage), UsdGeom.Tokens.z)
        self.assertAlmostEqual(UsdGeom.GetStageMetersPerUnit(stage), 0.01)
        scatter = UsdGeom.PointInstancer.Get(stage, "/Studio/Crumbs")
        self.assertEqual(len(scatter.GetProtoIndicesAttr().Get()), 2000)
        self.assertTrue(stage.GetPrimAtPath("/Studio/Set/Copy1").IsInstanceable())
        table = UsdGeom.Mesh.Get(stage, "/Studio/Set/Table")
        self.assertEqual(table.GetSubdivisionSchemeAttr().Get(), "catmullClark")
        self.assertEqual(list(table.GetCreaseSharpnessesAttr().Get()), [3.5])
        self.assertEqual(list(table.GetFaceVertexCountsAttr().Get()), [4])
        self.assertEqual(
            UsdLux.RectLight.Get(stage, "/Studio/Lights/Panel").GetWidthAttr().Get(), 60
        )
        camera = UsdGeom.Camera.Get(stage, "/Studio/Cam")
        self.assertAlmostEqual(camera.GetFStopAttr().Get(), 2.8, places=5)
        self.assertEqual(camera.GetFocusDistanceAttr().Get(), 320)

    def test_in_once_more_it_is_the_same(self) -> None:
        self.back(self.kept, "again.usda")
        again = open_scene(self.folder / "again.usda")
        self.assertEqual(len(again.nodes), len(self.scene.nodes))
        for kind in ("meshes", "lights", "cameras", "materials"):
            self.assertEqual(
                [x.name for x in getattr(again, kind)], [x.name for x in getattr(self.scene, kind)]
            )
        for a, b in zip(again.materials, self.scene.materials, strict=True):
            self.assertEqual(a.base_color, b.base_color)
            self.assertEqual((a.metallic, a.roughness), (b.metallic, b.roughness))
        self.assertEqual(
            sum(m.triangles for m in again.meshes), sum(m.triangles for m in self.scene.meshes)
        )

    def test_a_trimmed_texture_goes_along(self) -> None:
        number = next(i for i, m in enumerate(self.kept.images) if m.name == "wood.png")
        smaller, _ = shrink(self.kept, {number: 16})
        stage = self.back(smaller, "small.usda")
        shader = stage.GetPrimAtPath("/Studio/Looks/Oak/diffuseColor_map")
        file = shader.GetAttribute("inputs:file").Get()
        again = open_scene(self.folder / "small.usda")
        sizes = {m.width for m in again.images if m.name == Path(file.path).name}
        self.assertEqual(sizes, {16})

    def test_no_error_that_it_had_not(self) -> None:
        """By the validators of usd-core: what was sent is wrong in one name and in two types."""
        before = complaints(self.path)
        self.assertGreater(sum(before.values()), 0)
        number = next(i for i, m in enumerate(self.kept.images) if m.name == "wood.png")
        for scene in (self.kept, shrink(self.kept, {number: 16})[0]):
            self.back(scene, "ruled.usda")
            self.assertEqual(complaints(self.folder / "ruled.usda") - before, Counter())

    def test_what_is_gone_is_off(self) -> None:
        nodes = tuple(
            n
            for n in self.kept.nodes
            if n.path not in ("/Studio/Set/Wall", "/Studio/Set/Copy1") and "[7]" not in n.path
        )
        stage = self.back(replace(self.kept, nodes=nodes), "fewer.usda")
        self.assertFalse(stage.GetPrimAtPath("/Studio/Set/Wall").IsActive())
        scatter = UsdGeom.PointInstancer.Get(stage, "/Studio/Crumbs")
        self.assertEqual(list(scatter.GetInvisibleIdsAttr().Get()), [7])

    def test_a_glb_from_elsewhere_brings_no_stage(self) -> None:
        self.assertIsNone(open_scene(self.folder / "kept.glb").stage)


class TestBroken(unittest.TestCase):
    def test_the_parsers_own_line(self) -> None:
        from mill_lane.core.errors import MillError

        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "broken.usda"
            path.write_text('#usda 1.0\ndef Xform "A"\n{\n    double x = oops\n}\n')
            with self.assertRaises(MillError) as caught:
                open_scene(path)
            self.assertIn("line 4", caught.exception.message)
