"""`run` and `check` on the command line: a range of frames, gone on with, checked before."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np
from PIL import Image

from mill_lane.cli.main import main
from mill_lane.core.formats.exr import read_exr
from mill_lane.core.plan.preflight import Result as Found
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.render.layers import exr_names
from tests.scenes import small_demo
from tests.test_cli import call

SMALL = ("--width", "48", "--height", "27", "--samples", "2")


class TestRun(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(prefix="mill-lane-tests-")
        self.addCleanup(held.cleanup)
        self.out = Path(held.name) / "out"
        self.scene = str(small_demo())

    def run_it(self, *more: str) -> tuple[int, dict]:
        return call("run", self.scene, "--out", str(self.out), *SMALL, *more)

    def test_a_range_and_going_on(self) -> None:
        """Each frame is the same bits as rendered alone; what is there is left alone."""
        status, got = self.run_it("--frames", "1-9x4", "--names", "s.###", "--formats", "exr,png")
        self.assertEqual((status, got["rendered"], got["frames"]), (0, 3, 3))
        names = {f"s.{n:03d}{e}" for n in (1, 5, 9) for e in (".exr", ".png")}
        self.assertEqual({p.name for p in self.out.iterdir()}, names)
        alone = self.out.parent / "alone.exr"
        call("render", self.scene, "--out", str(alone), *SMALL, "--frame", "5")
        whole, one = (read_exr(p, exr_names())["beauty"] for p in (self.out / "s.005.exr", alone))
        np.testing.assert_array_equal(whole, one)
        status, told = self.run_it("--frames", "1-9x4", "--names", "s.###")
        self.assertEqual(status, 1)
        self.assertIn("--resume", told["hint"])
        (self.out / "s.005.exr").unlink()
        before = (self.out / "s.001.exr").stat().st_mtime_ns
        status, got = self.run_it("--frames", "1-9x4", "--names", "s.###", "--resume")
        self.assertEqual((got["rendered"], got["there_already"]), (1, 2))
        self.assertEqual((self.out / "s.001.exr").stat().st_mtime_ns, before)

    def test_broken_off_in_the_middle(self) -> None:
        """It goes on with the saved state of the frame, to the same bits."""
        large = ("--width", "240", "--height", "135", "--samples", "12")  # more than two steps
        more = ("--frames", "3", "--names", "s.#", *large)
        self.run_it(*more)
        undisturbed = read_exr(self.out / "s.3.exr", exr_names())["beauty"]
        steps = 0

        def stop(share: float, text: str) -> None:
            nonlocal steps
            steps += "sample" in text
            if steps == 2:
                raise KeyboardInterrupt

        (self.out / "s.3.exr").unlink()
        with (
            patch("mill_lane.cli.run.SAVE_EVERY", -1.0),
            patch("mill_lane.cli.run.telling", return_value=stop),
        ):
            line = ["run", self.scene, "--out", str(self.out), *SMALL, *more, "--json"]
            self.assertEqual(main(line), 1)
        self.assertEqual([p.name for p in self.out.iterdir()], [".003.state"])
        status, got = self.run_it(*more, "--resume")
        self.assertEqual((status, got["rendered"]), (0, 1))
        again = read_exr(self.out / "s.3.exr", exr_names())["beauty"]
        np.testing.assert_array_equal(again, undisturbed)
        self.assertEqual([p.name for p in self.out.iterdir()], ["s.3.exr"])

    def test_a_sheet_and_denoising(self) -> None:
        sheet = self.out.parent / "sheet.json"
        wanted = RunSheet(frames="2", name="a/b.##", exr="", png=False, jpeg=80)
        sheet.write_text(wanted.model_dump_json())
        layers = ("--layers", "albedo,normal,depth,half_buffers,variance")
        status, got = self.run_it("--sheet", str(sheet), "--denoise", "preview", *layers)
        self.assertEqual(status, 0, got)
        with Image.open(self.out / "a/b.02.jpg") as picture:
            self.assertEqual(picture.size, (48, 27))
        sheet.write_text('{"frames": "1", "magic": 1}')
        status, told = self.run_it("--sheet", str(sheet))
        self.assertIn("magic", told["error"])

    def test_what_is_wrong(self) -> None:
        for more, words in (
            (("--frames", "0"), "outside the range"),
            (("--frames", "x"), "no frame"),
            (("--names", "s"), "no place"),
            (("--formats", "gif"), "names no formats"),
        ):
            status, told = self.run_it(*more)
            self.assertEqual(status, 1)
            self.assertIn(words, told["error"])
        self.assertFalse(self.out.exists())

    def test_check(self) -> None:
        status, got = call("check", self.scene, *SMALL, "--frames", "1-5")
        self.assertEqual((status, got["frames"], got["errors"]), (0, 5, 0))
        self.assertIn("memory", json.dumps(got["found"]))
        full = [Found("memory", "error", "It does not fit."), Found("camera", "warning", "Added.")]
        with patch("mill_lane.core.plan.range_checks.preflight", return_value=full):
            status, got = call("check", self.scene, *SMALL, "--frames", "1")
        self.assertEqual((status, got["errors"]), (1, 1))
        self.assertGreaterEqual(got["warnings"], 1)
