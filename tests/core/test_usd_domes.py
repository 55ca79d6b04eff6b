"""Pictures on the domes of a stage: the right light from the right side, at the right strength.

UsdLux, "DomeLight", and OpenEXR's environment maps (Technical Introduction, "Latitude-Longitude
Map"): the middle of the picture lies along +Z, a quarter to the left of it along +X, its top row
along +Y.
"""

from __future__ import annotations

import tempfile
import unittest
import zipfile
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import write_pixels
from mill_lane.core.render.sky_picture import sky_pixels
from mill_lane.core.scene.model import Scene
from tests.scenes import render, write_sky

W, H = 64, 32
SPOTS = {"x": (16, 16), "z": (32, 16), "-x": (48, 16), "y": (0, 0)}  # column, row
LOCAL = {"x": (1.0, 0, 0), "z": (0, 0, 1.0), "-x": (-1.0, 0, 0), "y": (0, 1.0, 0)}
COLOURS = {"x": (8.0, 0, 0), "z": (0, 8.0, 0), "-x": (0, 0, 8.0), "y": (8.0, 8.0, 8.0)}


def sky() -> np.ndarray:
    """Dim all round, with a bright place along each of four axes."""
    pixels = np.full((H, W, 3), 0.25, np.float32)
    for name, (column, row) in SPOTS.items():
        across = slice(None) if name == "y" else slice(column - 2, column + 2)
        pixels[max(row - 2, 0) : row + 2, across] = COLOURS[name]
    return pixels


def seen(pixels: np.ndarray, d: np.ndarray) -> np.ndarray:
    """What the renderer's picture has in a direction, by its own layout."""
    theta, phi = np.arccos(np.clip(d[1], -1, 1)), np.arctan2(d[2], d[0]) % (2 * np.pi)
    row = min(int(theta / np.pi * len(pixels)), len(pixels) - 1)
    return pixels[row, int(phi / (2 * np.pi) * pixels.shape[1]) % pixels.shape[1]]


class TestDomes(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        write_sky(self.folder / "sky.exr", sky())

    def stage(self, asset: str = "sky.exr", up: str = "Y", name: str = "scene.usda") -> Usd.Stage:
        stage = Usd.Stage.CreateNew(str(self.folder / name))
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        UsdGeom.SetStageUpAxis(stage, up)
        UsdGeom.Sphere.Define(stage, "/ball")
        dome = UsdLux.DomeLight.Define(stage, "/dome")
        dome.CreateTextureFileAttr(Sdf.AssetPath(asset))
        return stage

    def opened(self, stage: Usd.Stage) -> Scene:
        stage.Save()
        return open_scene(Path(stage.GetRootLayer().realPath))

    def check(self, scene: Scene, to_world: np.ndarray, strength: float = 1.0) -> None:
        """`to_world` is the dome's own turn, (3, 3), for columns."""
        self.assertIsNotNone(scene.environment and scene.environment.picture)
        pixels = sky_pixels(scene.environment.picture)
        for name, local in LOCAL.items():
            found = seen(pixels, to_world @ np.array(local))
            wanted = np.array(COLOURS[name]) * strength
            np.testing.assert_allclose(found, wanted, rtol=0.01, atol=0.01, err_msg=name)

    def test_turned_in_any_way(self) -> None:
        """About the vertical by whole pixels and by parts of them, tilted, in stages of both
        axes.
        """
        turns = [(0, 0, 0), (0, 90, 0), (0, -47.3, 0), (35, 20, -60), (90, 0, 0)]
        for up, base in (("Y", np.eye(3)), ("Z", np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]]))):
            for k, turn in enumerate(turns):
                with self.subTest(up=up, turn=turn):
                    stage = self.stage(up=up, name=f"{up}{k}.usda")
                    dome = UsdGeom.XformCommonAPI(stage.GetPrimAtPath("/dome"))
                    dome.SetRotate(Gf.Vec3f(*turn))
                    dome.SetScale(Gf.Vec3f(3, 3, 3))
                    world = UsdGeom.XformCache().GetLocalToWorldTransform(dome.GetPrim())
                    rows = np.array(world)[:3, :3] / 3  # for rows: transposed for columns
                    self.check(self.opened(stage), base @ rows.T)

    def test_the_later_edition_says_where_its_pole_is(self) -> None:
        stage = self.stage(up="Z")
        stage.RemovePrim("/dome")
        dome = UsdLux.DomeLight_1.Define(stage, "/dome")
        dome.CreateTextureFileAttr(Sdf.AssetPath("sky.exr"))
        self.check(self.opened(stage), np.eye(3))  # the pole is up, whichever axis is

    def test_intensity_exposure_and_colour(self) -> None:
        stage = self.stage()
        dome = UsdLux.LightAPI(stage.GetPrimAtPath("/dome"))
        dome.CreateIntensityAttr(3.0)
        dome.CreateExposureAttr(-1.0)
        self.check(self.opened(stage), np.eye(3), 1.5)
        dome.CreateColorAttr(Gf.Vec3f(0.5, 0.5, 0.5))
        self.check(self.opened(stage), np.eye(3), 0.75)

    def test_from_a_zip_from_another_disk_and_through_a_job(self) -> None:
        stage = self.stage(asset="C:\\work\\light\\sky.exr")
        stage.Save()
        packed = self.folder / "sent.zip"
        with zipfile.ZipFile(packed, "w") as z:
            z.write(self.folder / "scene.usda", "scene.usda")
            z.write(self.folder / "sky.exr", "maps/sky.exr")
        scene = open_scene(packed)
        self.check(scene, np.eye(3))
        self.assertIn("found_otherwise", [n.code for n in scene.notes])
        kept = self.folder / "kept.glb"
        write_glb(scene, kept)
        again = open_scene(kept, own=True)
        self.check(again, np.eye(3))
        self.assertLess(kept.stat().st_size, 2 * scene.environment.picture.file_bytes + 200_000)
        write_glb(again, self.folder / "twice.glb")
        self.check(open_scene(self.folder / "twice.glb", own=True), np.eye(3))

    def test_the_camera_sees_it_and_it_lights(self) -> None:
        """A camera that looks along +X sees what the picture has there; a white floor takes up the
        light above it.
        """
        stage = self.stage()
        stage.RemovePrim("/ball")
        UsdGeom.Cube.Define(stage, "/cube")
        UsdGeom.XformCommonAPI(stage.GetPrimAtPath("/cube")).SetTranslate((0, 0, 50))
        camera = UsdGeom.Camera.Define(stage, "/camera")
        camera.CreateFocalLengthAttr(200.0)
        UsdGeom.XformCommonAPI(camera).SetRotate(Gf.Vec3f(0, -90, 0))  # -Z becomes +X
        session = render(self.opened(stage), samples=4, size=8)
        light = session.film.light / session.film.samples[..., None]
        np.testing.assert_allclose(light.mean((0, 1)), COLOURS["x"], atol=0.05)

    def test_pictures_of_eight_bits_are_decoded(self) -> None:
        code = np.full((H, W, 3), 188, np.uint8)  # sRGB (IEC 61966-2-1): 0.5029 of the light
        write_pixels(self.folder / "sky.png", code)
        scene = self.opened(self.stage("sky.png"))
        pixels = sky_pixels(scene.environment.picture)
        np.testing.assert_allclose(pixels, 0.5029, rtol=1e-3)

    def test_what_cannot_be_drawn_is_told(self) -> None:
        """A missing picture, another layout, a second picture: told, and never black."""
        gone = self.opened(self.stage("gone.exr"))
        self.assertIn("sky_picture_left_out", [n.code for n in gone.notes])
        self.assertTrue(gone.environment.added)
        stage = self.stage(name="angular.usda")
        UsdLux.DomeLight.Get(stage, "/dome").CreateTextureFormatAttr("angular")
        self.assertIn("sky_picture_left_out", [n.code for n in self.opened(stage).notes])
        stage = self.stage(name="two.usda")
        more = UsdLux.DomeLight.Define(stage, "/more")
        more.CreateTextureFileAttr(Sdf.AssetPath("sky.exr"))
        scene = self.opened(stage)
        self.check(scene, np.eye(3))
        self.assertIn("sky_left_out", [n.code for n in scene.notes])

    def test_even_domes_add_up(self) -> None:
        stage = self.stage()
        stage.RemovePrim("/dome")
        for k, strength in enumerate((1.0, 0.5)):
            UsdLux.DomeLight.Define(stage, f"/d{k}").CreateIntensityAttr(strength)
        self.assertEqual(self.opened(stage).environment.zenith, (1.5, 1.5, 1.5))


if __name__ == "__main__":
    unittest.main()
