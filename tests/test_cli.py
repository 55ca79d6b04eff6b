"""The command line: its JSON, its errors, and that it measures what it says."""

from __future__ import annotations

import csv
import io
import json
import tempfile
import unittest
import zipfile
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any

import numpy as np

from mill_lane.cli import main
from mill_lane.core.devices.model import DEMO_CARD
from mill_lane.core.formats.exr import read_exr
from mill_lane.core.formats.gltf import read_scene
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.render.layers import exr_names
from mill_lane.core.weigh.measure import weigh
from tests.coarse import coarsely
from tests.gltf_tools import validate
from tests.scenes import small_demo


def call(*arguments: str) -> tuple[int, dict[str, Any]]:
    """The exit status, and the one JSON object on standard output."""
    out = io.StringIO()
    with redirect_stdout(out), redirect_stderr(io.StringIO()), coarsely():
        status = main([*arguments, "--json"])
    lines = out.getvalue().splitlines()
    assert len(lines) == 1, lines
    result: dict[str, Any] = json.loads(lines[0])
    return status, result


class TestCommands(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        self.scene = str(small_demo())

    def test_weigh(self) -> None:
        status, got = call(
            "weigh", self.scene, "--frames", "1-4", "--width", "960", "--height", "540"
        )
        self.assertEqual(status, 0)
        self.assertEqual(
            set(got["memory"]),
            {
                "geometry",
                "acceleration",
                "textures",
                "environment",
                "film",
                "in_flight",
                "denoise",
                "process",
                "total",
            },
        )
        beside = ("total", "process")
        parts = sum(v for k, v in got["memory"].items() if k not in beside)
        self.assertEqual(got["memory"]["total"], parts)
        self.assertEqual(got["triangles"], sum(m["triangles"] * m["copies"] for m in got["meshes"]))
        self.assertEqual(got["unique_triangles"], sum(m["triangles"] for m in got["meshes"]))
        keys = {
            "name",
            "width",
            "height",
            "channels",
            "bits",
            "file_bytes",
            "memory_bytes",
            "role",
            "nearest_m",
        }
        self.assertLessEqual(keys, set(got["textures"][0]))

    def test_weigh_in_full(self) -> None:
        status, got = call("weigh", self.scene, "--full", "--frames", "1-2")
        self.assertEqual(status, 0)
        self.assertEqual(
            {m["seen"] for m in got["meshes"]} - {"camera", "reflection", "light_only", "never"},
            set(),
        )
        self.assertGreater(got["transparency_depth"], 0)
        self.assertTrue(all(t["wasted_bytes"] >= 0 for t in got["textures"]))

    def test_render(self) -> None:
        out = self.folder / "a.exr"
        size = (
            "--width",
            "64",
            "--height",
            "36",
            "--samples",
            "3",
            "--region",
            "8,4,40,30",
            "--layers",
            "albedo,depth",
            "--frame",
            "12",
        )
        status, got = call("render", self.scene, "--out", str(out), *size)
        self.assertEqual(status, 0)
        self.assertEqual(got["samples_mean"], 3.0)
        self.assertEqual(got["rays"]["camera"], 32 * 26 * 3)
        self.assertGreater(got["seconds"], 0)
        layers = read_exr(out, exr_names())
        self.assertEqual(
            {k: v.shape[:2] for k, v in layers.items()},
            {"beauty": (26, 32), "albedo": (26, 32), "depth": (26, 32), "axis_depth": (26, 32)},
        )
        again = self.folder / "b.exr"
        call("render", self.scene, "--out", str(again), *size, "--threads", "2")
        np.testing.assert_array_equal(read_exr(again)["beauty"], layers["beauty"])
        self.assertEqual({p.name for p in self.folder.iterdir()}, {"a.exr", "b.exr"})

    def test_recipe_file_and_card(self) -> None:
        recipe, card = self.folder / "r.json", self.folder / "card.json"
        recipe.write_text(json.dumps({"width": 32, "height": 18, "samples": 2, "min_samples": 1}))
        card.write_text(DEMO_CARD.model_dump_json())
        out = self.folder / "a.exr"
        status, got = call(
            "render", self.scene, "--out", str(out), "--recipe", str(recipe), "--device", str(card)
        )
        self.assertEqual((status, got["device"]), (0, "Card, 4 GB (simulated)"))
        card.write_text(
            DEMO_CARD.model_copy(update={"memory_bytes": 10**9 + 1000}).model_dump_json()
        )
        status, got = call(
            "render",
            self.scene,
            "--out",
            str(self.folder / "no.exr"),
            "--recipe",
            str(recipe),
            "--device",
            str(card),
        )
        self.assertEqual(status, 1)
        self.assertIn("does not fit", got["error"])

    def test_trim(self) -> None:
        status, got = call("trim", self.scene, "--out", str(self.folder))
        self.assertEqual((status, got["changes"], got["saved_bytes"]), (0, [], 0))
        self.assertEqual(
            len(read_scene(Path(got["out"])).images), len(read_scene(small_demo()).images)
        )

    def test_every_trim_with_its_list_and_pictures(self) -> None:
        listed, pictures = self.folder / "list.csv", self.folder / "p.zip"
        status, got = call(
            *("trim", self.scene, "--out", str(self.folder / "lean.glb"), "--instances"),
            *("--channels", "--jpeg", "--decimate", "1.5", "--cull", "--lights"),
            *("--list", str(listed), "--pictures", str(pictures)),
        )
        self.assertEqual(status, 0)
        kinds = {c["kind"] for c in got["changes"]}
        self.assertLessEqual({"instances", "decimate", "texture_channels"}, kinds)
        self.assertNotIn("texture_size", kinds)  # not asked for
        self.assertTrue(all(c["why"] for c in got["changes"]))
        self.assertLess(
            got["unique_triangles"], 0.9 * weigh(open_scene(small_demo())).unique_triangles
        )
        self.assertLess(got["memory_after"], got["memory_before"])
        rows = list(csv.DictReader(listed.open()))
        self.assertEqual(len(rows), len(got["changes"]))
        with zipfile.ZipFile(pictures) as z:
            self.assertIn("bark_normal.png", z.namelist())
        self.assertEqual(validate(Path(got["out"]))["numErrors"], 0)
        status, got = call(
            *("trim", self.scene, "--out", str(self.folder / "b.glb"), "--instances"),
            *("--list", str(self.folder / "list.json")),
        )
        self.assertEqual({c["kind"] for c in got["changes"]} - {"same_material"}, {"instances"})
        rows = json.loads((self.folder / "list.json").read_text())["changes"]
        self.assertEqual(len(rows), len(got["changes"]))
        status, got = call(
            "trim", self.scene, "--out", str(self.folder / "c.glb"), "--decimate", "-1"
        )
        self.assertEqual(status, 1)
        self.assertIn("more than 0", got["error"])
        self.assertFalse((self.folder / "c.glb").exists())

    def test_trim_by_what_the_shot_shows_out_as_usd(self) -> None:
        status, got = call(
            "trim", self.scene, "--textures", "footprint", "--out", str(self.folder / "lean.usdz")
        )
        self.assertEqual(status, 0)
        self.assertGreater(len(got["changes"]), 0)
        self.assertTrue(got["notes"])
        back = open_scene(self.folder / "lean.usdz")
        self.assertEqual(len(back.instances), len(open_scene(small_demo()).instances))

    def test_demo(self) -> None:
        status, got = call("demo", "--out", str(self.folder / "d.glb"), "--size", "small")
        self.assertEqual((status, got["file_bytes"]), (0, small_demo().stat().st_size))

    def test_errors_are_json_and_leave_nothing(self) -> None:
        out = str(self.folder / "x.exr")
        bad = self.folder / "bad.glb"
        bad.write_bytes(b"nonsense")
        for arguments in (
            ("weigh", str(self.folder / "gone.glb")),
            ("weigh", str(bad)),
            ("weigh", self.scene, "--frames", "a-b"),
            ("weigh", self.scene, "--camera", "nobody"),
            ("render", self.scene, "--out", out, "--samples", "0"),
            ("render", self.scene, "--out", out, "--region", "1,2,3"),
            ("render", self.scene, "--out", out, "--region", "10%,20%,x,1%"),
            ("render", self.scene, "--out", out, "--region", "5000,5000,6000,6000"),
            ("render", self.scene, "--out", out, "--layers", "shine"),
            ("render", self.scene, "--out", out, "--device", "nowhere.json"),
            ("trim", str(bad), "--out", str(self.folder / "y.glb")),
        ):
            status, got = call(*arguments)
            self.assertEqual((status, set(got)), (1, {"error", "hint"}), arguments)
            self.assertTrue(got["error"] and got["hint"])
        self.assertEqual([p.name for p in self.folder.iterdir()], ["bad.glb"])


class TestMemoryOfAProcess(unittest.TestCase):
    def test_ledger_against_the_peak_of_a_process(self) -> None:
        """A render process of its own; the scene is small, so the picture is made large.

        The bench does the full demo.
        """
        import subprocess
        import sys

        with tempfile.TemporaryDirectory() as folder:
            done = subprocess.run(
                [
                    *(
                        sys.executable,
                        "-m",
                        "mill_lane.cli",
                        "render",
                        str(small_demo()),
                        "--out",
                        f"{folder}/a.exr",
                        "--json",
                    ),
                    *(
                        "--width",
                        "2000",
                        "--height",
                        "1125",
                        "--samples",
                        "1",
                        "--bounces",
                        "0",
                        "--threads",
                        "2",
                    ),
                ],
                capture_output=True,
                text=True,
                check=True,
            )
        got = json.loads(done.stdout)
        # What Python and the libraries take for themselves weighs more here than in a scene of
        # gigabytes.
        self.assertAlmostEqual(
            got["predicted_memory_bytes"] / got["peak_memory_bytes"], 1.0, delta=0.15
        )
