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
from mill_lane.cli.record import NAME
from mill_lane.core.formats.exr import read_exr
from mill_lane.core.plan.preflight import Result as Found
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.render.layers import exr_names
from mill_lane.store.files import file_hash
from mill_lane.work import rendering
from mill_lane.work.kinds.base import Report
from mill_lane.work.kinds.render_parts import Request, Result
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
        self.assertEqual((status, [row["frame"] for row in got["frames"]]), (0, [1, 5, 9]), got)
        self.assertEqual(len(got["frames"][0]["files"]), 2)
        self.assertGreater(got["load_seconds"], got["frames"][1]["setup_seconds"])
        self.assertEqual(got["fallbacks"], [])
        names = {f"s.{n:03d}{e}" for n in (1, 5, 9) for e in (".exr", ".png")}
        self.assertEqual({p.name for p in self.out.iterdir()}, names | {NAME})
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
            patch("mill_lane.cli.run.SAVE_EVERY", 0.0),
            patch("mill_lane.cli.run.telling", return_value=stop),
        ):
            line = ["run", self.scene, "--out", str(self.out), *SMALL, *more, "--json"]
            self.assertEqual(main(line), 1)
        self.assertTrue((self.out / ".frame-0003" / "state.npz").exists())
        status, got = self.run_it(*more, "--resume")
        self.assertEqual((status, got["rendered"]), (0, 1))
        again = read_exr(self.out / "s.3.exr", exr_names())["beauty"]
        np.testing.assert_array_equal(again, undisturbed)
        self.assertEqual({p.name for p in self.out.iterdir()}, {"s.3.exr", NAME})

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
        self.assertEqual((status, got["frames"], got["errors"]), (0, 5, []))
        self.assertIn("memory", json.dumps(got["in_order"]))
        full = [Found("memory", "error", "It does not fit."), Found("camera", "warning", "Added.")]
        with patch("mill_lane.core.plan.checks.picture.preflight", return_value=full):
            status, got = call("check", self.scene, *SMALL, "--frames", "1")
        self.assertEqual((status, got["errors"]), (1, [{"code": "memory", "text": full[0].text}]))
        self.assertIn({"code": "camera", "text": "Added."}, got["warnings"])

    def test_memory_that_fails(self) -> None:
        """It goes on with less, says so, and comes to the same bits; or it says what to do."""
        more = ("--frames", "1-2", "--names", "s.#", "--layers", "components", "--height", "36")
        self.run_it(*more, "--rungs", "none")
        undisturbed = read_exr(self.out / "s.2.exr", exr_names())["beauty"]
        real, failed = rendering.render, []

        def fails_once(request: Request, report: Report) -> Result:
            if request.frame == 2 and request.means.strips == 1:
                failed.append(request.frame)
                raise MemoryError
            return real(request, report)

        with patch("mill_lane.work.rendering.render", fails_once):
            status, got = self.run_it(*more, "--overwrite", "--rungs", "fewer_layers,strips")
            self.assertEqual((status, len(failed)), (0, 2), got)
            self.assertEqual(len(got["fallbacks"]), 2)
            self.assertIn("from frame 2 on: the frame in strips", got["fallbacks"][1])
            status, told = self.run_it(*more, "--overwrite", "--rungs", "none")
            self.assertEqual(status, 1)
            self.assertIn("no step that is allowed", told["error"])
        again = read_exr(self.out / "s.2.exr", exr_names())
        np.testing.assert_array_equal(again["beauty"], undisturbed)
        self.assertNotIn("direct_diffuse", again)

    def test_report(self) -> None:
        """A page with figures and pictures in it, in one file; or the figures alone."""
        self.run_it("--frames", "1,4", "--names", "s.#", "--formats", "png")
        page = self.out.parent / "report.html"
        status, got = call("report", str(self.out), "--out", str(page))
        self.assertEqual((status, [row["frame"] for row in got["frames"]]), (0, [1, 4]))
        text = page.read_text()
        self.assertEqual(text.count("data:image/jpeg;base64,"), 2)
        self.assertIn(file_hash(Path(self.scene)), text)
        self.assertEqual(call("report", str(self.out.parent))[0], 1)
        self.assertEqual(call("report", str(self.out), "--out", "r.txt")[0], 1)
        (self.out / NAME).write_text("{}")
        self.assertIn("is no record", call("report", str(self.out))[1]["error"])
