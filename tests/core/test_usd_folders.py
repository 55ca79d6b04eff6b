"""USD of many files: references, packages, damage, and what is outside the folder."""

from __future__ import annotations

import tempfile
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
import psutil
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pxr import Gf, Sdf, Usd, UsdUtils

from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import check_vertices, open_scene
from mill_lane.core.formats.usd import guard
from mill_lane.core.formats.usd.read import read_stage
from mill_lane.core.progress import Cancelled
from mill_lane.core.scene.pose import world_matrices
from tests.core.test_meshes import world_triangles
from tests.core.test_usd import UsdCase, quad
from tests.thorough import EVERYTHING
from tests.usd_readers import alone


class TestFolders(UsdCase):
    def test_references_payloads_and_packages(self) -> None:
        part = self.stage("parts/loaf.usdc") if (self.folder / "parts").mkdir() is None else None
        quad(part, "/loaf")
        part.SetDefaultPrim(part.GetPrimAtPath("/loaf"))
        part.Save()
        stage = self.stage()
        stage.OverridePrim("/one").GetReferences().AddReference("parts/loaf.usdc")
        stage.OverridePrim("/two").GetPayloads().AddPayload("./parts/loaf.usdc")
        scene = self.read(stage)
        self.assertEqual(len(scene.instances), 2)
        # The packager rewrites each written path once, and leaves payloads as they are.
        stage.GetPrimAtPath("/two").GetPayloads().ClearPayloads()
        stage.GetPrimAtPath("/two").GetReferences().AddReference("parts/loaf.usdc")
        stage.Save()
        UsdUtils.CreateNewUsdzPackage(
            Sdf.AssetPath(str(self.folder / "x.usda")), str(self.folder / "x.usdz")
        )
        packed = open_scene(self.folder / "x.usdz")
        np.testing.assert_allclose(world_triangles(packed), world_triangles(scene))

    def test_nothing_outside_the_folder(self) -> None:
        with tempfile.TemporaryDirectory() as other:
            secret = Usd.Stage.CreateNew(str(Path(other) / "secret.usda"))
            quad(secret, "/a")
            secret.SetDefaultPrim(secret.GetPrimAtPath("/a"))
            secret.Save()
            relative = "../" * 12 + str(Path(other) / "secret.usda").lstrip("/")
            for i, asset in enumerate((str(Path(other) / "secret.usda"), relative)):
                for how in ("reference", "payload", "sublayer"):
                    stage = self.stage(f"{how}{i}.usda")
                    quad(stage, "/own")
                    if how == "sublayer":
                        stage.GetRootLayer().subLayerPaths.append(asset)
                    else:
                        prim = stage.OverridePrim("/x")
                        (
                            prim.GetReferences().AddReference
                            if how == "reference"
                            else prim.GetPayloads().AddPayload
                        )(asset)
                    stage.GetRootLayer().Save()
                    with self.assertRaises(MillError, msg=f"{how} {asset}") as caught:
                        read_stage(self.folder / f"{how}{i}.usda")
                    self.assertIn("outside", caught.exception.message)

    def test_what_is_missing_is_left_out(self) -> None:
        stage = self.stage()
        quad(stage, "/a")
        stage.OverridePrim("/b").GetReferences().AddReference("gone.usda")
        scene = self.read(stage)
        self.assertEqual(len(scene.instances), 1)
        self.assertIn("gone.usda", " ".join(n.text for n in scene.notes))

    def test_damage(self) -> None:
        stage = self.stage()
        quad(stage, "/a")
        stage.Save()
        stage.Export(str(self.folder / "y.usdc"))
        text, binary = (self.folder / "x.usda").read_bytes(), (self.folder / "y.usdc").read_bytes()

        @settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
        @given(st.integers(0, len(text)), st.integers(0, 30), st.binary(max_size=20))
        def run(at: int, cut: int, junk: bytes) -> None:
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "x.usda"
                path.write_bytes(text[:at] + junk + text[at + cut :])
                try:
                    check_vertices(read_stage(path))
                except MillError as e:
                    self.assertTrue(e.hint)

        run()
        cuts = (5, len(binary) // 2, 0, 50, len(binary) - 3)
        for n in cuts if EVERYTHING else cuts[:2]:
            path = self.folder / f"cut{n}.usdc"
            path.write_bytes(binary[:n])
            with self.assertRaises(MillError):
                open_scene(path)
        # On some wrong bytes the library ends its process: that is a message like any other.
        rng = np.random.default_rng(1)
        for i in range(12 if EVERYTHING else 3):
            broken = bytearray(binary)
            for at in rng.integers(0, len(binary), 6):
                broken[at] = int(rng.integers(0, 256))
            path = self.folder / f"broken{i}.usdc"
            path.write_bytes(broken)
            try:
                check_vertices(open_scene(path))
            except MillError as e:
                self.assertTrue(e.hint)

    def test_what_breaks_the_library_is_a_message(self) -> None:
        (self.folder / "x.usda").write_text("#usda 1.0")
        with (
            alone(),
            mock.patch.object(guard.sys, "executable", "/bin/false"),
            self.assertRaises(MillError) as caught,
        ):
            open_scene(self.folder / "x.usda")
        self.assertIn("gave up on it (status 1)", caught.exception.message)

    def test_a_whole_stage_as_it_comes(self) -> None:
        """Through the process of its own: notes, frames and movement arrive."""
        stage = self.stage()
        stage.SetStartTimeCode(1)
        stage.SetEndTimeCode(5)
        mesh = quad(stage, "/a", "catmullClark")
        move = mesh.AddTranslateOp()
        move.Set(Gf.Vec3d(0, 0, 0), 1)
        move.Set(Gf.Vec3d(4, 0, 0), 5)
        stage.Save()
        with alone():
            scene = open_scene(self.folder / "x.usda")
        self.assertEqual(scene.frames, (1, 5))
        self.assertIn("subdivision surface", " ".join(n.text for n in scene.notes))
        node = next(i for i, n in enumerate(scene.nodes) if n.name == "a")
        self.assertAlmostEqual(
            float(world_matrices(scene, scene.seconds(3))[node][0, 3]), 2.0, places=5
        )

    def test_progress_and_giving_up(self) -> None:
        """It tells how far it is; when whoever waits gives up, the reading process ends too."""
        stage = self.stage()
        for i in range(800):
            quad(stage, f"/a{i}")
        stage.Save()
        told: list[float] = []
        scene = open_scene(self.folder / "x.usda", lambda share, text: told.append(share))
        self.assertEqual(len(scene.instances), 800)
        self.assertEqual(told, sorted(told))
        self.assertGreater(max(told), 0.0)

        def give_up(share: float, text: str) -> None:
            raise Cancelled

        with self.assertRaises(Cancelled):
            open_scene(self.folder / "x.usda", give_up)
        below = psutil.Process().children(recursive=True)
        self.assertEqual(
            [p for p in below if "mill_lane.core.formats.usd" in " ".join(p.cmdline())], []
        )

    def test_a_zip_of_several_files(self) -> None:
        (self.folder / "parts").mkdir()
        part = self.stage("parts/loaf.usda")
        quad(part, "/loaf")
        part.SetDefaultPrim(part.GetPrimAtPath("/loaf"))
        part.Save()
        stage = self.stage()
        stage.OverridePrim("/one").GetReferences().AddReference("parts/loaf.usda")
        stage.Save()
        with zipfile.ZipFile(self.folder / "x.zip", "w") as z:
            for name in ("x.usda", "parts/loaf.usda"):
                z.write(self.folder / name, f"shop/{name}")
        self.assertEqual(len(open_scene(self.folder / "x.zip").instances), 1)
