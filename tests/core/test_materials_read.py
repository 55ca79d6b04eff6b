"""What materials of other formats say of holes, glass, lamps and sides, and how it is drawn."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import decode, write_pixels
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.scene.model import Image, Material, Scene
from tests.core.test_gltf import Folder
from tests.scenes import even_sky, render

QUAD = "v -1 -1 0\nv 1 -1 0\nv 1 1 0\nv -1 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\n"
FACE = "usemtl m\nf 1/1 2/2 3/3 4/4\n"
CUBE = """v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 0 0 1\nv 1 0 1\nv 1 1 1\nv 0 1 1
usemtl m\nf 1 4 3 2\nf 5 6 7 8\nf 1 2 6 5\nf 2 3 7 6\nf 3 4 8 7\nf 4 1 5 8\n"""
RNG = np.random.default_rng(5)


def worn(scene: Scene, m: Material) -> Image:
    assert m.base_texture is not None
    return scene.images[scene.textures[m.base_texture.texture].image]


def decoded(scene: Scene, m: Material) -> np.ndarray:
    image = worn(scene, m)
    return decode(image.read(), image.mime)


class TestObj(Folder):
    def obj(self, mtl: str, shape: str = QUAD + FACE) -> Scene:
        (self.folder / "m.mtl").write_text("newmtl m\n" + mtl)
        (self.folder / "a.obj").write_text("mtllib m.mtl\n" + shape)
        return open_scene(self.folder / "a.obj")

    def test_an_opacity_picture_of_its_own(self) -> None:
        """With a colour picture of another size, and with a colour alone."""
        colour = RNG.integers(0, 255, (4, 4, 3)).astype(np.uint8)
        holes = RNG.integers(0, 255, (8, 8, 1)).astype(np.uint8)
        write_pixels(self.folder / "leaf.png", colour)
        write_pixels(self.folder / "holes.png", holes)
        scene = self.obj("map_Kd leaf.png\nmap_d holes.png\n")
        (m,) = scene.materials
        pixels = decoded(scene, m)
        np.testing.assert_array_equal(pixels[..., 3], holes[..., 0])
        np.testing.assert_array_equal(pixels[::2, ::2, :3], colour)
        self.assertEqual((m.alpha_mode, len(scene.images)), ("BLEND", 1))
        scene = self.obj("Kd 0.2 0.3 0.4\nmap_d holes.png\n")
        (m,) = scene.materials
        self.assertEqual(m.base_color, (0.2, 0.3, 0.4, 1.0))
        np.testing.assert_array_equal(decoded(scene, m)[..., 3], holes[..., 0])
        self.assertEqual(int(decoded(scene, m)[..., :3].min()), 255)

    def test_the_channel_of_an_opacity_picture(self) -> None:
        """The one that is said; else the alpha where it says anything, else the luminance."""
        pixels = RNG.integers(0, 255, (4, 4, 4)).astype(np.uint8)
        write_pixels(self.folder / "p.png", pixels)
        for said, wanted in (("", 3), ("-imfchan g ", 1), ("-imfchan m ", 3)):
            scene = self.obj(f"Kd 1 1 1\nmap_d {said}p.png\n")
            np.testing.assert_array_equal(
                decoded(scene, scene.materials[0])[..., 3], pixels[..., wanted]
            )
        pixels[..., 3] = 255
        write_pixels(self.folder / "p.png", pixels)
        scene = self.obj("Kd 1 1 1\nmap_d p.png\n")
        luma = pixels[..., :3] @ np.array([0.2126, 0.7152, 0.0722])
        np.testing.assert_allclose(
            decoded(scene, scene.materials[0])[..., 3].astype(float), luma, atol=1
        )

    def test_a_hole_lets_light_through(self) -> None:
        """What is all hole is not there: only the even sky is seen; what is none is black."""
        darkest = []
        for mask in (0, 255):
            write_pixels(self.folder / "holes.png", np.full((4, 4, 1), mask, np.uint8))
            scene = self.obj("Kd 0 0 0\nNs 0\nmap_d holes.png\n")
            scene = replace(scene, environment=even_sky())
            session = render(scene, samples=4, size=16, transparent_layers=8)
            darkest.append(float(session.film.light.min()) / 4)
        self.assertAlmostEqual(darkest[0], 1.0, places=5)
        self.assertLess(darkest[1], 0.2)

    def test_glass(self) -> None:
        """Illumination models 4, 6, 7 and 9 (MTL specification) with Ni and Tf; solid where the
        mesh is closed, a pane where it is not.
        """
        for model in (4, 6, 7, 9):
            (m,) = self.obj(f"illum {model}\nKd 0 0 0\nNi 1.45\nTf 0.9 1 0.8\nd 0.1\n").materials
            self.assertEqual((m.transmission, m.ior, m.thickness), (1.0, 1.45, 0.0))
            self.assertEqual((m.base_color, m.alpha_mode), ((0.9, 1.0, 0.8, 1.0), "OPAQUE"))
            self.assertEqual(m.roughness, 0.0)
        (m,) = self.obj("illum 7\nNi 1.5\nNs 98\n", CUBE).materials
        self.assertGreater(m.thickness, 0.0)
        self.assertGreater(m.roughness, 0.0)
        self.assertEqual(m.base_color[:3], (1.0, 1.0, 1.0))
        (m,) = self.obj("illum 7\nKd 0.1 0.5 0.1\n", CUBE).materials
        np.testing.assert_allclose(m.base_color[:3], (0.2, 1.0, 0.2))
        for text in ("illum 2\nd 0.5\n", "illum 7\nTf 0 0 0\n", "illum 5\n"):
            self.assertEqual(self.obj(text).materials[0].transmission, 0.0)
        self.assertEqual(self.obj("illum 2\nd -halo 0.5\n").materials[0].base_color[3], 0.5)

    def test_glass_goes_home_and_comes_back(self) -> None:
        scene = self.obj("illum 7\nNi 1.45\nTf 0.9 1 0.8\n", CUBE)
        save_scene(scene, self.folder / "out.obj")
        (m,) = open_scene(self.folder / "out.obj").materials
        self.assertEqual((m.transmission, m.ior), (1.0, 1.45))
        np.testing.assert_allclose(m.base_color[:3], (0.9, 1.0, 0.8), atol=1e-5)
        self.assertGreater(m.thickness, 0.0)

    def test_an_emitter_is_a_light(self) -> None:
        """A small one in a large room: no light is added; what only glimmers gets one."""
        far = "".join(f"v {x} {y} {z}\n" for x in (-9, 9) for y in (-9, 9) for z in (-9, 9))
        room = QUAD + far + FACE + "usemtl wall\nf 5 6 8 7\nf 9 11 12 10\n"
        scene = self.obj("Ke 8 8 8\nKd 0 0 0\n", room)
        self.assertIsNone(scene.environment)
        self.assertIn((8.0, 8.0, 8.0), [m.emissive for m in scene.materials])
        self.assertIsNotNone(self.obj("Ke 0.5 0.5 0.5\n", room).environment)

    def test_tiles_that_one_set_lacks_are_told(self) -> None:
        for name in ("r.1001", "r.1002", "m.1001"):
            write_pixels(self.folder / f"{name}.png", np.full((2, 2, 1), 90, np.uint8))
        second = "v 3 -1 0\nv 3 1 0\nvt 2 0\nvt 2 1\n"
        shape = QUAD + second + FACE + "f 2/2 5/5 6/6 3/3\n"
        scene = self.obj("map_Pr r.<UDIM>.png\nmap_Pm m.<UDIM>.png\n", shape)
        lost = [n.text for n in scene.notes if n.level == "lost"]
        self.assertEqual(len(lost), 1)
        self.assertIn("m.1001, tile 1002", lost[0])


class TestUsd(Folder):
    def stage(self) -> Usd.Stage:
        stage = Usd.Stage.CreateNew(str(self.folder / "scene.usda"))
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
        return stage

    def material(self, stage: Usd.Stage, name: str, **values: object) -> UsdShade.Shader:
        material = UsdShade.Material.Define(stage, f"/{name}")
        shader = UsdShade.Shader.Define(stage, f"/{name}/surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        kinds = {float: Sdf.ValueTypeNames.Float, tuple: Sdf.ValueTypeNames.Color3f}
        for key, value in values.items():
            shader.CreateInput(key, kinds[type(value)]).Set(value)
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        return shader

    def quad(self, stage: Usd.Stage, name: str, height: float, both: bool | None) -> UsdGeom.Mesh:
        """A square that faces down."""
        mesh = UsdGeom.Mesh.Define(stage, f"/{name}")
        mesh.CreatePointsAttr([(-1, height, -1), (1, height, -1), (1, height, 1), (-1, height, 1)])
        mesh.CreateFaceVertexCountsAttr([4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
        mesh.CreateSubdivisionSchemeAttr("none")
        if both is not None:
            mesh.CreateDoubleSidedAttr(both)
        st = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(
            "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex
        )
        st.Set([(0, 0), (1, 0), (1, 1), (0, 1)])
        return mesh

    def kept(self, stage: Usd.Stage, name: str = "kept.glb") -> Scene:
        stage.Save()
        write_glb(open_scene(self.folder / "scene.usda"), self.folder / name)
        return open_scene(self.folder / name, own=True)

    def test_sides_are_kept(self) -> None:
        """One material on a mesh of each kind becomes two; both go home as they came."""
        stage = self.stage()
        self.material(stage, "lamp", emissiveColor=(4.0, 4.0, 4.0))
        for name, both in (("one", False), ("both", True), ("silent", None)):
            mesh = self.quad(stage, name, 1.0, both)
            UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(
                UsdShade.Material.Get(stage, "/lamp")
            )
        scene = self.kept(stage)
        sides = {
            scene.nodes[n].name: scene.materials[scene.meshes[m].parts[0].material].double_sided
            for n, m in scene.instances
        }
        self.assertEqual(sides, {"one": False, "both": True, "silent": False})
        self.assertEqual(len({m.name for m in scene.materials}), 2)
        save_scene(scene, self.folder / "home.usda")
        home = Usd.Stage.Open(str(self.folder / "home.usda"))
        found = [UsdGeom.Mesh.Get(home, f"/{n}").GetDoubleSidedAttr().Get() for n in sides]
        self.assertEqual(found, list(sides.values()))

    def test_a_lamp_shines_from_its_front_alone(self) -> None:
        """What it faces is lit, what is behind it is dark, before and after a round trip."""
        stage = self.stage()
        self.material(stage, "lamp", emissiveColor=(4.0, 4.0, 4.0), diffuseColor=(0.0, 0.0, 0.0))
        self.material(stage, "wall", diffuseColor=(0.8, 0.8, 0.8))
        for name, height in (("lamp_", 0.0), ("wall_down", -1.0), ("wall_up", 1.0)):
            mesh = self.quad(stage, name, height, name != "lamp_")
            UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(
                UsdShade.Material.Get(stage, f"/{name.split('_')[0]}")
            )
        camera = UsdGeom.Camera.Define(stage, "/camera")
        UsdGeom.XformCommonAPI(camera).SetTranslate(Gf.Vec3d(0, 0, 9))
        first = self.kept(stage)
        save_scene(first, self.folder / "home.usda")
        home = open_scene(self.folder / "home.usda")
        for scene in (first, home):
            session = render(scene, samples=64, size=32, bounces=0)
            rows = session.film.light.mean((1, 2)) / 64
            above, below = rows[:14].sum(), rows[18:].sum()
            self.assertGreater(below, 0.02)
            self.assertLess(above, 0.01 * below)

    def test_an_opacity_picture_of_its_own(self) -> None:
        """Cut out by a threshold, from the channel that is read; it goes home and comes back."""
        stage = self.stage()
        shader = self.material(stage, "leaf", opacityThreshold=0.5)
        mesh = self.quad(stage, "a", 0.0, True)
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(
            UsdShade.Material.Get(stage, "/leaf")
        )
        colour = RNG.integers(0, 255, (4, 4, 3)).astype(np.uint8)
        masks = RNG.integers(0, 255, (8, 8, 3)).astype(np.uint8)
        for socket, file, channel, pixels in (
            ("diffuseColor", "leaf.png", "rgb", colour),
            ("opacity", "masks.png", "g", masks),
            ("roughness", "masks.png", "r", masks),
        ):
            write_pixels(self.folder / file, pixels)
            texture = UsdShade.Shader.Define(stage, f"/leaf/{Path(file).stem}")
            texture.CreateIdAttr("UsdUVTexture")
            texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(f"./{file}")
            kind = Sdf.ValueTypeNames.Float3 if channel == "rgb" else Sdf.ValueTypeNames.Float
            texture.CreateOutput(channel, kind)
            shader.CreateInput(socket, kind).ConnectToSource(texture.ConnectableAPI(), channel)
        first = self.kept(stage)
        save_scene(first, self.folder / "home.usda")
        for scene in (first, open_scene(self.folder / "home.usda")):
            (m,) = scene.materials
            self.assertEqual((m.alpha_mode, m.alpha_cutoff), ("MASK", 0.5))
            pixels = decoded(scene, m)
            np.testing.assert_array_equal(pixels[..., 3], masks[..., 1])
            np.testing.assert_array_equal(pixels[::2, ::2, :3], colour)
            assert m.roughness_texture is not None
            rough = scene.images[scene.textures[m.roughness_texture.texture].image]
            np.testing.assert_array_equal(decode(rough.read(), rough.mime)[..., 1], masks[..., 0])
