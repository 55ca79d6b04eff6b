"""Run sheets, what a run goes on with when memory fails, and the files of a frame."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

import av
import numpy as np
import OpenEXR
from PIL import Image
from pydantic import ValidationError

from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import write_exr
from mill_lane.core.formats.film import contact_sheet, write_film
from mill_lane.core.formats.pictures import write_pixels
from mill_lane.core.plan.frame_output import write_frame
from mill_lane.core.plan.run_sheet import RunSheet


class InAFolder(unittest.TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory(prefix="mill-lane-tests-")
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)


class TestRunSheet(InAFolder):
    def test_names(self) -> None:
        sheet = RunSheet(name="a/s.###", exr="half", png=True, jpeg=80)
        names = [str(p.relative_to(self.folder)) for p in sheet.paths(self.folder, 7)]
        self.assertEqual(names, ["a/s.007.exr", "a/s.007.png", "a/s.007.jpg"])
        with self.assertRaisesRegex(MillError, "no place for the frame"):
            RunSheet(name="shot").pattern()

    def test_a_sheet_for_each_camera(self) -> None:
        """Each with files of its own; names that no file can have stay apart."""
        sheet = RunSheet(name="{camera}/s.####", cameras=("Wide", "a/b", "a:b", "Wide"))
        known = ["Wide", "a/b", "a:b", "other"]
        found = sheet.by_camera(known)
        self.assertEqual([camera for camera, _ in found], ["Wide", "a/b", "a:b"])
        self.assertEqual(
            [own.name for _, own in found], ["Wide/s.####", "a_b/s.####", "a_b_/s.####"]
        )
        (camera, own), *more = RunSheet(name="{camera}.#").by_camera(known, "other")
        self.assertEqual((camera, own.name, more), ("other", "other.#", []))
        self.assertEqual(RunSheet(name="s.#", cameras=("Wide",)).by_camera(known)[0][1].name, "s.#")
        with self.assertRaisesRegex(MillError, "same files"):
            RunSheet(name="s.#", cameras=("Wide", "other")).by_camera(known)
        with self.assertRaisesRegex(MillError, "no camera “gone”"):
            RunSheet(name="{camera}.#", cameras=("gone",)).by_camera(known)

    def test_what_is_there(self) -> None:
        """A frame is begun with one of its files, and stands with all of them."""
        sheet = RunSheet(name="a/s.###", exr="half", png=True)
        self.assertEqual(sheet.begun(self.folder, [1, 2, 3]), [])
        for frame, count in ((1, 2), (2, 1)):
            for path in sheet.paths(self.folder, frame)[:count]:
                path.parent.mkdir(exist_ok=True)
                path.touch()
        self.assertEqual(sheet.begun(self.folder, [1, 2, 3]), [1, 2])
        self.assertEqual(sheet.standing(self.folder, [1, 2, 3]), [1])

    def test_as_json_and_back(self) -> None:
        sheet = RunSheet(frames="1-9x2", rungs=("fewer_layers",), trouble="stop")
        self.assertEqual(RunSheet.model_validate_json(sheet.model_dump_json()), sheet)
        for wrong in (
            {"rungs": ["magic"]},
            {"jpeg": 101},
            {"exr": "double"},
            {"magic": 1},
            {"frames": ""},
        ):
            with self.assertRaises(ValidationError):
                RunSheet.model_validate(wrong)


class TestFiles(InAFolder):
    def layers(self) -> list[tuple[str, np.ndarray]]:
        rng = np.random.default_rng(2)
        beauty = rng.uniform(0, 3, (18, 30, 3)).astype(np.float32)
        beauty[0, 0] = 1e6  # more than 16 bits hold
        return [("beauty", beauty), ("object", np.full((18, 30), 70001, np.float32))]

    def test_sixteen_bits(self) -> None:
        """What is too large becomes the largest number; numbers of objects keep all their bits."""
        for compression in ("zip", "piz", "none"):
            sheet = RunSheet(name="s.#", exr="half", png=False, compression=compression)
            write_frame(sheet, self.folder, 1, self.layers, 0.0)
            with OpenEXR.File(str(self.folder / "s.1.exr"), separate_channels=True) as f:
                red, number = (f.channels()[name].pixels for name in ("R", "id"))
            self.assertEqual((red.dtype, number.dtype), (np.float16, np.float32))
            self.assertEqual(float(red[0, 0]), 65504.0)  # IEEE 754
            self.assertEqual(float(number[3, 3]), 70001.0)
            whole = self.layers()[0][1][1:, :, 0]
            np.testing.assert_allclose(red[1:], whole, rtol=2**-11)  # half a last place

    def test_a_file_is_whole_or_not_there(self) -> None:
        sheet = RunSheet(name="s.#", exr="float", png=False)
        broken = patch("mill_lane.core.plan.frame_output.write_exr", side_effect=_broken)
        with broken, self.assertRaises(RuntimeError):
            write_frame(sheet, self.folder, 1, self.layers, 0.0)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_folder_that_is_a_file(self) -> None:
        (self.folder / "n").touch()
        with self.assertRaisesRegex(MillError, "cannot be made"):
            write_frame(RunSheet(name="n/s.#"), self.folder, 1, self.layers, 0.0)


class TestFilm(InAFolder):
    def test_frames_come_back(self) -> None:
        """As many as there were, in their order, near enough to their brightness."""
        levels = [40, 90, 140, 190, 240]
        for ending in (".mp4", ".webm"):
            path = self.folder / f"f{ending}"
            pictures = (np.full((33, 65, 3), level, np.uint8) for level in levels)
            self.assertEqual(write_film(path, pictures, 25.0), len(levels))
            with av.open(str(path)) as film:
                seen = [f.to_ndarray(format="gray") for f in film.decode(video=0)]
            self.assertEqual([f.shape for f in seen], [(32, 64)] * len(levels))
            means = [float(f.mean()) for f in seen]
            self.assertEqual(means, sorted(means))

    def test_what_is_no_film(self) -> None:
        one = np.zeros((8, 8, 3), np.uint8)
        for name, frames, words in (
            ("f.gif", [one], "no film"),
            ("f.mp4", [], "no frame"),
            ("f.mp4", [one, np.zeros((8, 10, 3), np.uint8)], "different sizes"),
            ("f.mp4", [np.zeros((1, 8, 3), np.uint8)], "too small"),
        ):
            with self.assertRaisesRegex(MillError, words):
                write_film(self.folder / name, frames, 24.0)

    def test_a_large_frame_is_made_smaller(self) -> None:
        path = self.folder / "f.mp4"
        write_film(path, [np.zeros((1200, 3840, 3), np.uint8)], 24.0)
        with av.open(str(path)) as film:
            stream = film.streams.video[0]
            self.assertEqual((stream.width, stream.height), (1920, 600))

    def test_a_sheet(self) -> None:
        """Each picture has its place: no two share pixels."""
        panels = []
        for k in range(5):
            path = self.folder / f"{k}.png"
            write_pixels(path, np.full((90, 160, 3), 40 * k, np.uint8))
            panels.append((str(k), path))
        sheet = contact_sheet(panels)
        for k in range(5):
            self.assertGreaterEqual(int((sheet == 40 * k).all(-1).sum()), 90 * 160)
        Image.fromarray(sheet).verify()


def _broken(path: Path, layers: object, *others: object, **more: object) -> None:
    """Write half a file, then fail."""
    write_exr(path, [("beauty", np.zeros((2, 2, 3), np.float32))])
    raise RuntimeError("power cut")
