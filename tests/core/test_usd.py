"""USD: stages made and asked with the reference library, read as scenes."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, Vt

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import _with_defaults, check_vertices, open_scene
from mill_lane.core.formats.pictures import decode, write_pixels
from mill_lane.core.formats.usd.placing import decomposed
from mill_lane.core.formats.usd.read import read_stage
from mill_lane.core.scene.pose import world_matrices
from tests.core.test_gltf import Folder
from tests.core.test_meshes import area, parts, world_triangles
from tests.gltf_tools import validate

QUAD = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]


def quad(stage: Any, path: str, scheme: str = "none") -> Any:
    mesh = UsdGeom.Mesh.Define(stage, path)
    mesh.CreatePointsAttr(QUAD)
    mesh.CreateFaceVertexCountsAttr([4])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
    mesh.CreateSubdivisionSchemeAttr(scheme)
    return mesh


class UsdCase(Folder):
    def stage(self, name: str = "x.usda", up: str = "Y", unit: float = 1.0) -> Any:
        stage = Usd.Stage.CreateNew(str(self.folder / name))
        UsdGeom.SetStageUpAxis(stage, up)
        UsdGeom.SetStageMetersPerUnit(stage, unit)
        return stage

    def read(self, stage: Any) -> Any:
        stage.Save()
        scene = _with_defaults(read_stage(self.folder / Path(stage.GetRootLayer().realPath).name))
        check_vertices(scene)
        return scene


class TestMeshes(UsdCase):
    def test_unit_and_up(self) -> None:
        """In centimetres with Z up, a point at (10, 20, 30) lies at (0.1, 0.3, -0.2) metres with Y
        up.
        """
        stage = self.stage(up="Z", unit=0.01)
        mesh = quad(stage, "/a")
        UsdGeom.XformCommonAPI(mesh).SetTranslate((10, 20, 30))
        scene = self.read(stage)
        np.testing.assert_allclose(world_triangles(scene)[0, 0], [0.1, 0.3, -0.2], atol=1e-6)
        self.assertAlmostEqual(area(world_triangles(scene)), 1e-4, places=9)

    def test_polygons_holes_and_hands(self) -> None:
        stage = self.stage()
        mesh = UsdGeom.Mesh.Define(stage, "/a")
        mesh.CreatePointsAttr([*QUAD, (2, 0, 0), (2, 1, 0)])
        mesh.CreateFaceVertexCountsAttr([4, 3, 3])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3, 1, 4, 2, 4, 5, 2])
        mesh.CreateHoleIndicesAttr([1])
        mesh.CreateSubdivisionSchemeAttr("none")
        mesh.CreateOrientationAttr("leftHanded")
        (g,) = parts(self.read(stage))
        self.assertEqual(len(g.triangles), 3)
        t = g.positions[g.triangles]
        self.assertTrue((np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0])[:, 2] < 0).all())

    def test_places_and_normals_by_corner(self) -> None:
        stage = self.stage()
        mesh = quad(stage, "/a")
        st_ = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(
            "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying
        )
        st_.Set([(0, 0), (1, 0), (1, 0.25)])
        st_.SetIndices(Vt.IntArray([0, 1, 2, 0]))
        mesh.CreateNormalsAttr([(0, 0, 1)])
        mesh.SetNormalsInterpolation("uniform")
        (g,) = parts(self.read(stage))
        assert g.uvs is not None
        found = {
            tuple(p[:2]): tuple(uv)
            for p, uv in zip(g.positions.tolist(), g.uvs.tolist(), strict=True)
        }
        # V runs up in USD and down in a picture.
        self.assertEqual(found, {(0, 0): (0, 1), (1, 0): (1, 1), (1, 1): (1, 0.75), (0, 1): (0, 1)})
        np.testing.assert_allclose(g.normals, [[0, 0, 1]] * 4)

    def test_instances_share_their_mesh(self) -> None:
        stage = self.stage()
        quad(stage, "/loaf/body")
        stage.GetPrimAtPath("/loaf").SetSpecifier(Sdf.SpecifierClass)
        for i in range(5):
            prim = UsdGeom.Xform.Define(stage, f"/shelf/loaf_{i}").GetPrim()
            prim.GetReferences().AddInternalReference("/loaf")
            prim.SetInstanceable(True)
            UsdGeom.XformCommonAPI(prim).SetTranslate((i, 0, 0))
        scene = self.read(stage)
        self.assertEqual((len(scene.meshes), len(scene.instances)), (1, 5))
        self.assertEqual(len(stage.GetPrototypes()), 1)
        lowest = np.sort(world_triangles(scene).reshape(5, -1, 3).min(1)[:, 0])
        np.testing.assert_allclose(lowest, range(5), atol=1e-6)

    def test_point_instancer(self) -> None:
        """Counts, transforms, masks and prototypes as the library's own computation has them."""
        stage = self.stage()
        instancer = UsdGeom.PointInstancer.Define(stage, "/rolls")
        UsdGeom.XformCommonAPI(instancer).SetTranslate((0, 5, 0))
        quad(stage, "/rolls/protos/a")
        b = UsdGeom.Xform.Define(stage, "/rolls/protos/b")
        UsdGeom.XformCommonAPI(b).SetScale((2, 2, 2))
        quad(stage, "/rolls/protos/b/one")
        quad(stage, "/rolls/protos/b/two")
        instancer.CreatePrototypesRel().SetTargets(["/rolls/protos/a", "/rolls/protos/b"])
        instancer.CreateProtoIndicesAttr([0, 1, 0, 1])
        instancer.CreatePositionsAttr([(0, 0, 0), (1, 0, 0), (2, 0, 0), (3, 0, 0)])
        instancer.CreateScalesAttr([(1, 1, 1), (1, 1, 1), (3, 3, 3), (1, 1, 1)])
        instancer.CreateOrientationsAttr(
            [Gf.Quath(1, 0, 0, 0)] * 3 + [Gf.Quath(math.sqrt(0.5), 0, 0, math.sqrt(0.5))]
        )
        instancer.CreateIdsAttr([0, 1, 2, 3])
        instancer.CreateInvisibleIdsAttr([0])
        scene = self.read(stage)
        # One of a, two meshes of each of the two b.
        self.assertEqual(len(scene.instances), 1 + 2 * 2)
        matrices = {scene.nodes[n].name: m for n, m in enumerate(world_matrices(scene, 0.0))}
        with_proto = UsdGeom.PointInstancer.IncludeProtoXform
        theirs = instancer.ComputeInstanceTransformsAtTime(
            0, 0, with_proto, UsdGeom.PointInstancer.IgnoreMask
        )
        world = np.array(UsdGeom.XformCache(0).GetLocalToWorldTransform(instancer.GetPrim())).T
        for i, name in ((2, "rolls 2 a"), (1, "rolls 1 two"), (3, "rolls 3 one")):
            np.testing.assert_allclose(matrices[name], world @ np.array(theirs[i]).T, atol=1e-3)

    def test_parts_by_material(self) -> None:
        stage = self.stage()
        mesh = UsdGeom.Mesh.Define(stage, "/a")
        mesh.CreatePointsAttr([*QUAD, (2, 0, 0), (2, 1, 0)])
        mesh.CreateFaceVertexCountsAttr([4, 4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3, 1, 4, 5, 2])
        mesh.CreateSubdivisionSchemeAttr("none")
        for name in ("red", "blue"):
            UsdShade.Material.Define(stage, f"/{name}")
        api = UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim())
        api.Bind(UsdShade.Material.Get(stage, "/red"))
        subset = UsdGeom.Subset.CreateGeomSubset(
            mesh, "half", "face", Vt.IntArray([1]), "materialBind"
        )
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(
            UsdShade.Material.Get(stage, "/blue")
        )
        scene = self.read(stage)
        found = {scene.materials[p.material].name: p for p in scene.meshes[0].parts}
        self.assertEqual({n: p.triangles for n, p in found.items()}, {"red": 2, "blue": 2})
        self.assertEqual((found["blue"].bounds_min[0], found["red"].bounds_max[0]), (1.0, 1.0))

    def test_what_is_hidden_is_not_there(self) -> None:
        stage = self.stage()
        quad(stage, "/seen")
        UsdGeom.Imageable(quad(stage, "/hidden")).MakeInvisible()
        quad(stage, "/guide").CreatePurposeAttr("guide")
        quad(stage, "/off").GetPrim().SetActive(False)
        self.assertEqual([m.name for m in self.read(stage).meshes], ["seen"])


class TestMovement(UsdCase):
    def test_frames(self) -> None:
        """A turning, moving, growing mesh under a moving parent:

        at each frame where the library has it.
        """
        stage = self.stage()
        stage.SetStartTimeCode(10)
        stage.SetEndTimeCode(34)
        stage.SetTimeCodesPerSecond(24)
        parent = UsdGeom.Xform.Define(stage, "/cart")
        move = parent.AddTranslateOp()
        mesh = quad(stage, "/cart/wheel")
        turn, grow = mesh.AddRotateXYZOp(), mesh.AddScaleOp()
        for t in (10, 34):
            move.Set(Gf.Vec3d(t / 10, 0, 0), t)
            turn.Set(Gf.Vec3f(0, 3 * t, 90 * (t - 10) / 24), t)
            grow.Set(Gf.Vec3f(1, 1 + t / 34, 1), t)
        scene = self.read(stage)
        self.assertEqual((scene.frames, scene.frame_rate), ((10, 34), 24.0))
        node = next(i for i, n in enumerate(scene.nodes) if n.name == "wheel")
        for frame in (10, 17, 22, 34):
            theirs = np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(mesh.GetPrim())).T
            np.testing.assert_allclose(
                world_matrices(scene, scene.seconds(frame))[node], theirs, atol=1e-5
            )
        write_glb(scene, self.folder / "x.glb")
        again = open_scene(self.folder / "x.glb")
        self.assertEqual(again.frames, (10, 34))
        self.assertEqual(validate(self.folder / "x.glb")["numErrors"], 0)

    def test_a_mirrored_matrix(self) -> None:
        rng = np.random.default_rng(0)
        for _ in range(50):
            q = rng.normal(size=4)
            x, y, z, w = q / np.linalg.norm(q)
            r = np.array(
                [
                    [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
                    [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
                    [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
                ]
            )
            s = rng.uniform(0.2, 3, 3) * np.where(rng.random(3) < 0.3, -1, 1)
            m = np.eye(4)
            m[:3, :3] = r * s
            (a, b, c, d), t = decomposed(m)
            back = (
                np.array(
                    [
                        [1 - 2 * (b * b + c * c), 2 * (a * b - c * d), 2 * (a * c + b * d)],
                        [2 * (a * b + c * d), 1 - 2 * (a * a + c * c), 2 * (b * c - a * d)],
                        [2 * (a * c - b * d), 2 * (b * c + a * d), 1 - 2 * (a * a + b * b)],
                    ]
                )
                * t
            )
            np.testing.assert_allclose(back, m[:3, :3], atol=1e-9)


class TestCamerasAndLights(UsdCase):
    def test_camera(self) -> None:
        stage = self.stage(unit=0.01)
        quad(stage, "/a")
        camera = UsdGeom.Camera.Define(stage, "/eye")
        camera.CreateFocalLengthAttr(35)
        camera.CreateVerticalApertureAttr(24)
        camera.CreateHorizontalApertureAttr(36)
        UsdGeom.XformCommonAPI(camera).SetTranslate((0, 0, 500))
        scene = self.read(stage)
        self.assertAlmostEqual(
            scene.cameras[0].yfov,
            math.radians(camera.GetCamera(0).GetFieldOfView(Gf.Camera.FOVVertical)),
            places=6,
        )
        self.assertAlmostEqual(scene.cameras[0].aspect or 0, 1.5)
        m = world_matrices(scene, 0.0)[scene.camera_node()]
        np.testing.assert_allclose(m[:3, 3], [0, 0, 5], atol=1e-6)
        np.testing.assert_allclose(m[:3, :3], np.eye(3), atol=1e-6)

    def test_lights(self) -> None:
        stage = self.stage()
        quad(stage, "/a")
        rect = UsdLux.RectLight.Define(stage, "/window")
        rect.CreateWidthAttr(2)
        rect.CreateHeightAttr(3)
        rect.CreateIntensityAttr(10)
        rect.CreateExposureAttr(1)
        rect.CreateColorAttr((1, 0.5, 0.25))
        bulb = UsdLux.SphereLight.Define(stage, "/bulb")
        bulb.CreateRadiusAttr(0.1)
        bulb.CreateIntensityAttr(6)
        bulb.CreateNormalizeAttr(True)
        sun = UsdLux.DistantLight.Define(stage, "/sun")
        sun.CreateAngleAttr(0.53)
        sun.CreateIntensityAttr(50000)
        spark = UsdLux.SphereLight.Define(stage, "/spark")
        spark.CreateTreatAsPointAttr(True)
        spark.CreateRadiusAttr(0.5)
        spark.CreateIntensityAttr(4)
        dome = UsdLux.DomeLight.Define(stage, "/dome")
        dome.CreateIntensityAttr(0.5)
        scene = self.read(stage)
        meshes = {m.name: m.parts[0] for m in scene.meshes}
        glow = scene.materials[meshes["window"].material].emissive
        self.assertEqual(glow, (20.0, 10.0, 5.0))
        g = meshes["window"].load()
        self.assertAlmostEqual(area(g.positions[g.triangles]), 6.0, places=5)
        np.testing.assert_allclose(
            g.normals, [[0, 0, -1]] * 6, atol=1e-6
        )  # a rectangle shines along -Z
        g = meshes["bulb"].load()
        lit = area(g.positions[g.triangles])
        self.assertAlmostEqual(lit / (4 * math.pi * 0.01), 1.0, places=5)
        self.assertAlmostEqual(
            scene.materials[meshes["bulb"].material].emissive[0] * lit, 6.0, places=4
        )
        self.assertTrue(
            ((g.positions[g.triangles].mean(1)) * g.normals[g.triangles[:, 0]]).sum(1).min() > 0
        )
        lamps = {light.name: light for light in scene.lights}
        self.assertAlmostEqual(
            lamps["sun"].intensity, 50000 * math.pi * math.sin(math.radians(0.265)) ** 2, places=3
        )
        self.assertAlmostEqual(lamps["spark"].intensity, 4 * math.pi * 0.25, places=6)
        assert scene.environment is not None
        self.assertEqual(scene.environment.zenith, (0.5, 0.5, 0.5))


class TestMaterials(UsdCase):
    def material(self, stage: Any, **values: Any) -> Any:
        material = UsdShade.Material.Define(stage, "/clay")
        shader = UsdShade.Shader.Define(stage, "/clay/surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        kinds = {float: Sdf.ValueTypeNames.Float, tuple: Sdf.ValueTypeNames.Color3f}
        for name, value in values.items():
            shader.CreateInput(name, kinds[type(value)]).Set(value)
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        mesh = quad(stage, "/a")
        st_ = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(
            "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex
        )
        st_.Set([p[:2] for p in QUAD])
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)
        return shader

    def plug(
        self, stage: Any, shader: Any, socket: str, file: str, channel: str, pixels: np.ndarray
    ) -> Any:
        write_pixels(self.folder / file, pixels)
        texture = UsdShade.Shader.Define(stage, f"/clay/{socket}")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(f"./{file}")
        texture.CreateInput("wrapS", Sdf.ValueTypeNames.Token).Set("mirror")
        kind = Sdf.ValueTypeNames.Float3 if channel == "rgb" else Sdf.ValueTypeNames.Float
        texture.CreateOutput(channel, kind)
        shader.CreateInput(socket, kind).ConnectToSource(texture.ConnectableAPI(), channel)
        return texture

    def test_values(self) -> None:
        stage = self.stage()
        self.material(
            stage,
            diffuseColor=(0.2, 0.3, 0.4),
            roughness=0.6,
            metallic=0.1,
            opacity=0.5,
            ior=1.4,
            clearcoat=0.7,
        )
        (m,) = [m for m in self.read(stage).materials if m.name == "clay"]
        np.testing.assert_allclose(m.base_color, (0.2, 0.3, 0.4, 0.5), atol=1e-6)
        np.testing.assert_allclose(
            (m.roughness, m.metallic, m.ior, m.clearcoat), (0.6, 0.1, 1.4, 0.7), atol=1e-6
        )
        self.assertEqual(m.alpha_mode, "BLEND")

    def test_pictures(self) -> None:
        stage = self.stage()
        rng = np.random.default_rng(0)
        shader = self.material(stage, metallic=0.0)
        colour = rng.integers(0, 255, (4, 4, 3)).astype(np.uint8)
        rough, metal = (rng.integers(0, 255, (n, n, 1)).astype(np.uint8) for n in (8, 4))
        texture = self.plug(stage, shader, "diffuseColor", "colour.png", "rgb", colour)
        self.plug(stage, shader, "roughness", "rough.png", "r", rough)
        self.plug(stage, shader, "metallic", "metal.png", "r", metal)
        mover = UsdShade.Shader.Define(stage, "/clay/mover")
        mover.CreateIdAttr("UsdTransform2d")
        mover.CreateInput("scale", Sdf.ValueTypeNames.Float2).Set((2, 3))
        mover.CreateInput("translation", Sdf.ValueTypeNames.Float2).Set((0.25, 0.5))
        mover.CreateOutput("result", Sdf.ValueTypeNames.Float2)
        texture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(
            mover.ConnectableAPI(), "result"
        )
        scene = self.read(stage)
        (m,) = [m for m in scene.materials if m.name == "clay"]
        assert m.base_texture is not None
        assert m.roughness_texture is not None
        self.assertEqual(
            (m.base_texture.scale, m.base_texture.offset), ((2.0, 3.0), (0.25, 1 - 0.5 - 3))
        )
        self.assertEqual((m.roughness, m.metallic), (1.0, 1.0))
        self.assertEqual(scene.textures[m.base_texture.texture].wrap_u, "mirror")
        packed = scene.images[scene.textures[m.roughness_texture.texture].image]
        pixels = decode(packed.read(), packed.mime)
        np.testing.assert_array_equal(pixels[..., 1], rough[..., 0])
        np.testing.assert_array_equal(pixels[::2, ::2, 2], metal[..., 0])
        write_glb(scene, self.folder / "x.glb")
        self.assertEqual(validate(self.folder / "x.glb")["numErrors"], 0)

    def test_missing_pictures_and_other_shaders(self) -> None:
        stage = self.stage()
        shader = self.material(stage)
        self.plug(stage, shader, "diffuseColor", "colour.png", "rgb", np.zeros((2, 2, 3), np.uint8))
        (self.folder / "colour.png").unlink()
        self.assertTrue(self.read(stage).images[0].missing)
