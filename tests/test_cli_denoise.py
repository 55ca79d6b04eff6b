"""`denoise` and `compare` on the command line: files, sequences, errors."""

from __future__ import annotations

import contextlib
import io
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np
import OpenImageIO as oiio

from mill_lane.cli.main import main
from mill_lane.core.formats.exr import read_exr, read_planes, write_exr
from mill_lane.core.formats.exr_guides import guides_in
from mill_lane.core.formats.pictures import write_pixels
from mill_lane.core.image.srgb import from_linear
from mill_lane.core.render.layers import exr_names
from tests.core import test_denoise_frames
from tests.core.test_denoise import noisy, rms
from tests.test_cli import call


class TestDenoise(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(prefix="mill-lane-tests-")
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)

    def write(self, name: str, seed: int = 3) -> tuple[Path, np.ndarray]:
        layers, truth = noisy(0.08, seed)
        path = self.folder / name
        write_exr(path, layers, names=exr_names())
        return path, truth

    def test_a_picture(self) -> None:
        """Cleaner, with all layers of the file kept, and what is written is what is told."""
        source, truth = self.write("raw.exr")
        out = self.folder / "out" / "clean.exr"
        status, got = call("denoise", str(source), "--out", str(out), "--strength", "1")
        self.assertEqual((status, got["frames"], got["out"]), (0, 1, str(out)))
        self.assertGreater(got["seconds"], 0)
        self.assertGreater(got["peak_memory_bytes"], 0)
        self.assertLess(abs(got["light_change"]), 0.005)
        raw, clean = (read_exr(p, exr_names()) for p in (source, out))
        self.assertEqual(set(clean), set(raw))
        self.assertLess(rms(clean["beauty"], truth), 0.3 * rms(raw["beauty"], truth))
        np.testing.assert_array_equal(clean["albedo"], raw["albedo"])
        # Nothing is written over unless told.
        before = out.read_bytes()
        status, told = call("denoise", str(source), "--out", str(out))
        self.assertEqual((status, out.read_bytes()), (1, before))
        self.assertIn("--overwrite", told["hint"])
        status, _ = call("denoise", str(source), "--out", str(out), "--overwrite")
        usual = read_exr(out, exr_names())["beauty"]
        mixed = 0.35 * raw["beauty"] + 0.65 * clean["beauty"]
        np.testing.assert_allclose(usual, mixed, atol=1e-5)

    def test_layers_by_other_names(self) -> None:
        """Found by their usual names, told, used, and kept as they are called."""
        layers, truth = noisy(0.08)
        path, out = self.folder / "theirs.exr", self.folder / "o.exr"
        planes = {c: layers["beauty"][..., k] for k, c in enumerate("RGB")}
        for name, letters in (("diffuse_albedo", "RGB"), ("N", "XYZ")):
            key = "albedo" if "albedo" in name else "normal"
            planes |= {f"{name}.{c}": layers[key][..., k] for k, c in enumerate(letters)}
        planes |= {"Z": layers["depth"].astype(np.float32), "mine.A": layers["depth"] * 0 + 7}
        write_exr(path, planes, names={n: (n,) for n in planes})
        status, got = call("denoise", str(path), "--out", str(out), "--strength", "1")
        self.assertEqual(status, 0)
        told = " ".join(got["notes"])
        self.assertIn("albedo is read from diffuse_albedo.R", told)
        self.assertIn("normal is read from N.X, N.Y, N.Z", told)
        self.assertIn("the noise is guessed", told)
        kept = read_planes(out)
        self.assertEqual(set(kept), set(planes))
        np.testing.assert_array_equal(kept["mine.A"], 7.0)
        raw = layers["beauty"]
        self.assertLess(rms(read_exr(out)["beauty"], truth), 0.6 * rms(raw, truth))
        found = guides_in(planes)
        self.assertEqual(
            {k: v[1][0] for k, v in found.items()},
            {
                "albedo": "diffuse_albedo.R",
                "normal": "N.X",
                "depth": "Z",
            },
        )
        self.assertEqual(guides_in({"R": raw[..., 0], "noise.Z": raw[..., 0]}), {})

    def test_a_sequence_with_a_gap(self) -> None:
        for frame in (1, 2, 5):
            self.write(f"shot.{frame:04d}.exr", frame)
        names = str(self.folder / "shot.####.exr"), str(self.folder / "clean" / "shot.%04d.exr")
        status, got = call("denoise", names[0], "--out", names[1], "--mode", "preview")
        self.assertEqual((status, got["frames"]), (0, 3))
        self.assertIn("2 frames missing: 3 to 4", got["notes"])
        there = sorted(p.name for p in (self.folder / "clean").iterdir())
        self.assertEqual(there, ["shot.0001.exr", "shot.0002.exr", "shot.0005.exr"])

    def test_going_on_with_a_sequence(self) -> None:
        """What is there stays as it is; the rest is made; nothing half made is left behind."""
        for frame in (1, 2, 3):
            self.write(f"shot.{frame:04d}.exr", frame)
        out = self.folder / "clean"
        names = str(self.folder / "shot.####.exr"), "--out", str(out / "shot.####.exr")
        out.mkdir()
        (out / "shot.0002.exr").write_bytes(b"mine")
        status, got = call("denoise", *names, "--mode", "fireflies")
        self.assertEqual(status, 1)
        self.assertIn("--resume", got["hint"])
        status, got = call("denoise", *names, "--mode", "fireflies", "--resume")
        self.assertEqual((status, got["frames"]), (0, 2))
        self.assertIn("1 of 3 were there already", got["notes"])
        self.assertEqual((out / "shot.0002.exr").read_bytes(), b"mine")
        self.assertEqual(len(list(out.iterdir())), 3)

    def test_stopped_on_the_way(self) -> None:
        source, _ = self.write("raw.exr")
        out = self.folder / "o.exr"
        with (
            patch("mill_lane.core.denoise.files.lost_detail", side_effect=KeyboardInterrupt),
            contextlib.redirect_stderr(io.StringIO()) as told,
        ):
            self.assertEqual(main(["denoise", str(source), "--out", str(out)]), 1)
        self.assertIn("0 of 1 written: go on with --resume", told.getvalue())
        self.assertEqual([p.name for p in self.folder.iterdir()], ["raw.exr"])

    def test_frames_before_and_after(self) -> None:
        """Used along the motion; shimmer is told, and a third of what it is frame by frame; a frame
        of another size is left aside.
        """
        for number in range(1, 5):
            layers, _ = test_denoise_frames.TestBringing.noisy_frames(0.1, (2.0, 1.0), number, 6.0)
            path = self.folder / f"shot.{number:04d}.exr"
            write_exr(path, layers, names=exr_names())
        source = str(self.folder / "shot.####.exr")
        found = {}
        for beside in ("0", "1"):
            out = str(self.folder / beside / "shot.####.exr")
            more = ("--before", "1", "--after", beside, "--strength", "1")
            status, found[beside] = call("denoise", source, "--out", out, *more)
            self.assertEqual(status, 0)
            self.assertLess(found[beside]["shimmer_after"], 0.2 * found[beside]["shimmer_before"])
        after = [found[k]["shimmer_after"] for k in ("0", "1")]
        self.assertLess(after[1], after[0])
        small = {k: v[:40] for k, v in layers.items()}
        write_exr(self.folder / "shot.0004.exr", small, names=exr_names())
        out = str(self.folder / "2" / "shot.####.exr")
        status, got = call("denoise", source, "--out", out, "--after", "1", "--radius", "2")
        self.assertEqual(status, 0)
        self.assertIn("shot.0004.exr has another size", " ".join(got["notes"]))

    def test_masks_and_guides(self) -> None:
        source, _ = self.write("raw.exr")
        raw = read_exr(source, exr_names())["beauty"]
        out = self.folder / "o.exr"

        def cleaned(*more: str) -> np.ndarray:
            status, got = call("denoise", str(source), "--out", str(out), "--overwrite", *more)
            self.assertEqual(status, 0, got)
            return read_exr(out, exr_names())["beauty"]

        painted = np.zeros((*raw.shape[:2], 3), np.uint8)
        painted[:, 32:] = 255
        write_pixels(self.folder / "mask.png", painted)
        mixed = cleaned("--mask", str(self.folder / "mask.png"), "--strength", "1")
        np.testing.assert_array_equal(mixed[:, :32], raw[:, :32])
        self.assertGreater(np.abs(mixed[:, 32:] - raw[:, 32:]).mean(), 0.01)
        whole = cleaned("--strength", "1")
        np.testing.assert_array_equal(mixed[:, 32:], whole[:, 32:])
        np.testing.assert_array_equal(cleaned("--strength", "0"), raw)
        other = cleaned("--strength", "1", "--guides", "albedo=half_a,normal=0,depth=distance:0.5")
        self.assertGreater(np.abs(other - whole).max(), 0)
        for mask in ("dark", "noise"):
            cleaned("--mask", mask)

    def test_half_floats_in_a_file_of_another_shape(self) -> None:
        """Tiles, half floats and attributes: the numbers' kind and the attributes stay."""
        layers, truth = noisy(0.08)
        spec = oiio.ImageSpec(64, 48, 3, oiio.HALF)
        spec.channelnames = ("R", "G", "B")
        spec.tile_width = spec.tile_height = 16
        spec.attribute("Artist", "a baker")
        path, out = self.folder / "tiled.exr", self.folder / "o.exr"
        made = oiio.ImageOutput.create(str(path))
        self.assertTrue(made.open(str(path), spec))
        self.assertTrue(made.write_image(layers["beauty"]))
        made.close()
        status, got = call("denoise", str(path), "--out", str(out), "--strength", "1")
        self.assertEqual(status, 0)
        self.assertIn("the noise is guessed", " ".join(got["notes"]))
        kept = oiio.ImageInput.open(str(out))
        self.assertEqual(str(kept.spec().format), "half")
        self.assertEqual(kept.spec().getattribute("Artist"), "a baker")
        kept.close()
        self.assertLess(rms(read_exr(out)["beauty"], truth), rms(layers["beauty"], truth))

    def test_errors(self) -> None:
        source, _ = self.write("raw.exr")
        cut = self.folder / "cut.exr"
        cut.write_bytes(source.read_bytes()[:3000])
        out = self.folder / "o.exr"
        small = self.folder / "small.png"
        write_pixels(small, np.zeros((4, 4, 3), np.uint8))
        for arguments, words in (
            ((cut, "--out", out), "cut.exr"),
            ((self.folder / "no.exr", "--out", out), "no.exr"),
            ((self.folder / "no.##.exr", "--out", self.folder / "o.##.exr"), "No file"),
            ((source, "--out", self.folder / "o.##.exr"), "One of both names"),
            ((source, "--out", out, "--strength", "2"), "not between 0 and 1"),
            ((source, "--out", out, "--radius", "0"), "not between 1 and 20"),
            ((source, "--out", out, "--before", "9"), "not between 0 and 3"),
            ((source, "--out", out, "--guides", "colour=1"), "tells nothing of a guide"),
            ((source, "--out", out, "--guides", "albedo=mine"), "no layer “mine”"),
            ((source, "--out", out, "--mask", "3"), "no layer “object”"),
            ((source, "--out", out, "--mask", small), "pixels wide"),
            ((source, "--out", out, "--components", "emission"), "no layer “emission”"),
            ((source, "--out", self.folder / "raw.exr" / "o.exr"), "cannot be written"),
        ):
            status, got = call("denoise", *map(str, arguments))
            self.assertEqual(status, 1, arguments)
            self.assertIn(words, got["error"])
        self.assertFalse(out.exists())


class TestCompare(unittest.TestCase):
    def test_known_differences(self) -> None:
        with tempfile.TemporaryDirectory() as held:
            folder = Path(held)
            truth = np.full((16, 16, 3), 0.5, np.float32)
            write_exr(folder / "t.exr", {"beauty": truth})
            write_exr(folder / "a.exr", {"beauty": truth + np.float32(0.1)})
            status, got = call("compare", str(folder / "a.exr"), str(folder / "t.exr"))
            self.assertEqual(status, 0)
            self.assertAlmostEqual(got["rmse"], 0.1, 6)
            self.assertAlmostEqual(got["relative_mse"], 0.01 / 0.26, 5)
            self.assertAlmostEqual(got["light_change"], 0.2, 5)
            apart = float(from_linear(np.array(0.6)) - from_linear(np.array(0.5)))
            self.assertAlmostEqual(got["psnr"], -20 * np.log10(apart), 3)
            # A PNG of the truth is the truth, but for its eight bits.
            codes = np.rint(from_linear(truth) * 255).astype(np.uint8)
            write_pixels(folder / "t.png", codes)
            status, got = call("compare", str(folder / "t.png"), str(folder / "t.exr"))
            self.assertLess(got["rmse"], 0.003)
            self.assertGreater(got["ssim"], 0.999)
            status, got = call("compare", str(folder / "no.exr"), str(folder / "t.exr"))
            self.assertEqual(status, 1)
