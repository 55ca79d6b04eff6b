"""Scenes that go home as USD: with all that they name, to any path, and nothing half written."""

from __future__ import annotations

import os
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdUtils

from mill_lane.cli.main import main
from mill_lane.core.errors import MillError
from mill_lane.core.formats import catalogue
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.gltf.turn import read_in
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.formats.sky_pictures import read_sky
from mill_lane.core.formats.units import from_declared
from mill_lane.core.scene.edit import remove_instances
from mill_lane.core.scene.framing import world_bounds
from mill_lane.core.scene.model import Scene
from tests.scenes import write_sky

ALIGNED = 64  # bytes: where the data of each file of a package begins (USDZ specification)
STAGE = """#usda 1.0
(
    defaultPrim = "World"
    metersPerUnit = 1
    upAxis = "Y"
)
def Xform "World"
{
    def Mesh "box"
    {
        int[] faceVertexCounts = [4, 4]
        int[] faceVertexIndices = [0, 1, 2, 3, 3, 2, 1, 0]
        point3f[] points = [(-1, 0, 0), (1, 0, 0), (1, 2, 0), (-1, 2, 0)]
        uniform token subdivisionScheme = "none"
    }
    def DomeLight "dome"
    {
        float inputs:intensity = 2
        asset inputs:texture:file = @./light/sky.hdr@
        asset[] keptToo = [@./light/list.png@, @./gone/none.png@]
    }
}
"""


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        self.work = self.folder / "sent"
        (self.work / "light").mkdir(parents=True)
        self.pixels = np.full((16, 32, 3), 0.25, np.float32)
        self.pixels[4:6, 8:12] = 16.0
        write_sky(self.work / "light" / "sky.hdr", self.pixels)
        (self.work / "light" / "list.png").write_bytes(b"\x89PNG\r\n\x1a\nno more")
        self.scene = self.work / "scene.usda"
        self.scene.write_text(STAGE)

    def kept(self) -> Scene:
        """The scene as the application keeps it: what was sent is gone by then."""
        path = self.folder / "kept.glb"
        write_glb(open_scene(self.scene), path)
        return open_scene(path, own=True)

    def named(self, path: Path) -> str:
        stage = Usd.Stage.Open(str(path))
        asset = stage.GetPrimAtPath("/World/dome").GetAttribute("inputs:texture:file").Get()
        return str(asset.path)


class TestWhatAStageNames(Folder):
    def test_it_goes_along_under_its_own_path(self) -> None:
        home = self.folder / "home"
        home.mkdir()
        for ending in (".usda", ".usdc"):
            save_scene(self.kept(), home / f"out{ending}")
            self.assertEqual(self.named(home / f"out{ending}"), "./light/sky.hdr")
            self.assertEqual(
                (home / "light/sky.hdr").read_bytes(),
                (self.work / "light/sky.hdr").read_bytes(),
            )
            self.assertTrue((home / "light/list.png").exists())
        self.assertFalse((home / "gone").exists())

    def test_a_package_by_the_rules(self) -> None:
        """Stored, aligned, the stage first, no kind of picture without a place in it; light and
        all.
        """
        out = self.folder / "out.usdz"
        notes = save_scene(self.kept(), out)
        self.assertIn("none.png", " ".join(n.text for n in notes if n.level == "lost"))
        data = out.read_bytes()
        with zipfile.ZipFile(out) as package:
            infos = package.infolist()
            self.assertEqual(infos[0].filename, "out.usdc")
            self.assertEqual(
                {i.filename for i in infos[1:]}, {"light/sky_hdr.exr", "light/list.png"}
            )
            for info in infos:
                self.assertEqual(info.compress_type, zipfile.ZIP_STORED)
                name = int.from_bytes(data[info.header_offset + 26 :][:2], "little")
                extra = int.from_bytes(data[info.header_offset + 28 :][:2], "little")
                self.assertEqual((info.header_offset + 30 + name + extra) % ALIGNED, 0)
            package.extractall(self.folder / "unpacked")
        self.assertEqual(UsdUtils.ComputeAllDependencies(str(out))[2], [])
        sky = read_sky(self.folder / "unpacked" / "light" / "sky_hdr.exr")
        np.testing.assert_allclose(sky, self.pixels, rtol=0.01)
        again = open_scene(out)
        self.assertEqual(set(again.stage_files), {"light/sky_hdr.exr", "light/list.png"})
        self.assertEqual([p.name for p in self.folder.iterdir() if p.name.startswith(".")], [])

    def test_a_picture_that_is_missing(self) -> None:
        (self.work / "light" / "sky.hdr").unlink()
        notes = save_scene(self.kept(), self.folder / "out.usdz")
        self.assertIn("sky.hdr", " ".join(n.text for n in notes if n.level == "lost"))
        self.assertEqual(UsdUtils.ComputeAllDependencies(str(self.folder / "out.usdz"))[2], [])

    def test_a_file_of_somebody_else_stays(self) -> None:
        home = self.folder / "home"
        (home / "light").mkdir(parents=True)
        (home / "light" / "sky.hdr").write_bytes(b"another")
        with self.assertRaisesRegex(MillError, "is another file"):
            save_scene(self.kept(), home / "out.usda")
        self.assertEqual((home / "light" / "sky.hdr").read_bytes(), b"another")
        self.assertEqual([p.name for p in home.iterdir()], ["light"])

    def test_nothing_from_outside(self) -> None:
        secret = self.folder / "secret.hdr"
        write_sky(secret, self.pixels)
        self.scene.write_text(STAGE.replace("./light/sky.hdr", "../secret.hdr"))
        scene = open_scene(self.scene)
        self.assertEqual(set(scene.stage_files), {"light/list.png"})


class TestPaths(Folder):
    def test_relative_absolute_spaces_existing(self) -> None:
        before = os.getcwd()
        self.addCleanup(os.chdir, before)
        os.chdir(self.work)
        (self.work / "there.usda").write_text("before")
        outs = ["a.usda", "a.usdc", "a.usdz", "a.glb", "a.zip", "a.obj", "there.usda"]
        outs += ["two words.usda", "two words.usdz", "below/a.usda", "../up.usdc"]
        outs += [str(self.folder / "elsewhere" / "absolute.usda")]
        scene = open_scene(Path("scene.usda"))
        for out in outs:
            with self.subTest(out=out):
                Path(out).parent.mkdir(exist_ok=True)
                save_scene(scene, Path(out))
                self.assertGreater(Path(out).stat().st_size, 200)
                if Path(out).suffix.startswith(".usd"):
                    self.assertEqual(len(open_scene(Path(out)).meshes), 1)
        out = "further/down/two more words.usdz"  # by command: the rest of the way is the same
        self.assertEqual(main(["trim", "scene.usda", "--out", out, "--json"]), 0)
        self.assertEqual(len(open_scene(Path(out)).meshes), 1)
        self.assertEqual(list(self.folder.rglob(".*")), [])

    def test_a_failure_leaves_what_was_there(self) -> None:
        """Whatever is written, and however far it came."""
        scene = self.kept()

        def broken(path: Path) -> None:
            path.write_bytes(b"half")
            path.with_name("beside.bin").write_bytes(b"half")
            raise OSError("disk full")

        for ending in catalogue.written_endings():
            out = self.folder / f"out{ending}"
            out.write_bytes(b"before")
            there = {p.name for p in self.folder.iterdir()}
            made = mock.Mock(side_effect=lambda s, path, p: broken(path))
            with (
                self.subTest(ending),
                mock.patch("mill_lane.core.formats.saving.writer_of", return_value=made),
                self.assertRaises(OSError),
            ):
                save_scene(scene, out)
            self.assertEqual(out.read_bytes(), b"before")
            self.assertEqual({p.name for p in self.folder.iterdir()}, there)


class TestHidden(unittest.TestCase):
    def scattered(self, path: Path, ids: list[int] | None, times: bool) -> None:
        """Twenty copies in a row, of which the first four are hidden."""
        stage = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        field = UsdGeom.PointInstancer.Define(stage, "/field")
        leaf = UsdGeom.Mesh.Define(stage, "/field/leaf")
        leaf.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (0, 1, 0)])
        leaf.CreateFaceVertexCountsAttr([3])
        leaf.CreateFaceVertexIndicesAttr([0, 1, 2])
        field.CreatePrototypesRel().SetTargets([Sdf.Path("/field/leaf")])
        field.CreateProtoIndicesAttr([0] * 20)
        field.CreatePositionsAttr([(2.0 * k, 0, 0) for k in range(20)])
        if ids is not None:
            field.CreateIdsAttr(ids)
        own = ids or list(range(20))
        hidden = field.CreateInvisibleIdsAttr()
        for time in (1.0, 2.0) if times else (Usd.TimeCode.Default(),):
            hidden.Set(own[:4], time)
        stage.Save()

    def test_what_was_hidden_stays_hidden(self) -> None:
        for ids, times in ((None, False), ([100 - k for k in range(20)], False), (None, True)):
            with self.subTest(ids=ids, times=times), tempfile.TemporaryDirectory() as name:
                path = Path(name) / "field.usda"
                self.scattered(path, ids, times)
                scene = open_scene(path)
                self.assertEqual(len(scene.instances), 16)
                gone = [n for n, _ in scene.instances[:5]]
                save_scene(remove_instances(scene, gone), Path(name) / "out.usda")
                self.assertEqual(len(open_scene(Path(name) / "out.usda").instances), 11)


class TestReadOtherwise(Folder):
    def test_a_stage_whose_unit_is_wrong(self) -> None:
        """Put right in the job, it goes home with its points as they were and another header."""
        scene = self.kept()
        self.assertEqual(scene.declared, (1.0, "y"))
        turned = read_in(scene, from_declared("cm", "z", scene.declared), ("cm", "z"))
        path = self.folder / "turned.glb"
        write_glb(turned, path)
        again = open_scene(path, own=True)
        self.assertEqual((again.declared, again.read_as), ((1.0, "y"), ("cm", "z")))
        low, high = world_bounds(again)
        np.testing.assert_allclose([low, high], [[-0.01, 0, -0.02], [0.01, 0, 0]], atol=1e-6)
        save_scene(again, self.folder / "home.usda")
        home = Usd.Stage.Open(str(self.folder / "home.usda"))
        self.assertEqual(UsdGeom.GetStageMetersPerUnit(home), 0.01)
        self.assertEqual(UsdGeom.GetStageUpAxis(home), "Z")
        points = UsdGeom.Mesh.Get(home, "/World/box").GetPointsAttr().Get()
        np.testing.assert_allclose(points, [(-1, 0, 0), (1, 0, 0), (1, 2, 0), (-1, 2, 0)])
        np.testing.assert_allclose(
            world_bounds(open_scene(self.folder / "home.usda")), [low, high], atol=1e-6
        )
