"""Files of the folder of frames: listed, looked into, denoised, stopped and gone on with."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
from sqlalchemy import select

from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import read_exr, write_exr
from mill_lane.core.render.layers import exr_names
from mill_lane.jobs.frame_files import inside, sequences
from mill_lane.store.models import Task
from tests.core.test_denoise import noisy, rms
from tests.homes import do_tasks
from tests.web.case import WebCase

PAGE = "/jobs/1/finish/files"
ELSEWHERE = {
    "albedo": ("DiffuseAlbedo.R", "DiffuseAlbedo.G", "DiffuseAlbedo.B"),
    "normal": ("N.X", "N.Y", "N.Z"),
}


class TestFrameFiles(WebCase):
    def setUp(self) -> None:
        super().setUp()
        self.folder = self.home.frames
        (self.folder / "night").mkdir(parents=True)

    def write(self, name: str, seed: int = 0, **names: tuple[str, ...]) -> np.ndarray:
        """A noisy frame of another renderer; returns what it would be without noise."""
        layers, true = noisy(0.08, seed)
        kept = {k: layers[k] for k in ("beauty", "albedo", "normal")}
        write_exr(self.folder / name, kept, names=exr_names() | ELSEWHERE | names)
        return true

    def text(self, query: str = "") -> str:
        return " ".join(self.page(PAGE + query).get_text().split())

    def ask(self, **more: str | int) -> dict[str, str | int]:
        form: dict[str, str | int] = {
            "source": "night/shot.####.exr",
            "out": "clean/shot.####.exr",
            "strength": 100,
        }
        return form | more

    def test_what_is_there(self) -> None:
        self.assertIn("There is no EXR yet", self.text())
        for n in (1, 2, 5):
            self.write(f"night/shot.{n:04d}.exr")
        self.write("night/look.exr")
        self.write("night/plain7.exr")
        (self.folder / "night/notes.txt").write_text("no frame")
        (self.folder / "night/away.exr").symlink_to(Path(__file__))
        found = {s.name: s for s in sequences(self.folder)}
        names = {"night/shot.####.exr", "night/look.exr", "night/plain7.exr"}
        self.assertEqual(set(found), names)
        shot = found["night/shot.####.exr"]
        self.assertEqual((shot.frames, shot.range), (3, "1 to 5"))
        self.assertIn("2 frames missing: 3 to 4", self.text())

    def test_numbers_that_outgrow_their_padding(self) -> None:
        for n in (998, 999, 1000, 1001):
            self.write(f"night/s{n:03d}.exr")
        self.write("night/t099.exr")
        self.write("night/t100.exr")
        names = {s.name: s.frames for s in sequences(self.folder)}
        self.assertEqual(names, {"night/s%d.exr": 4, "night/t###.exr": 2})

    def test_what_they_have(self) -> None:
        """Guides by their usual names, what suffers for missing ones, layers chosen by hand."""
        self.write("night/shot.0001.exr", albedo=("paint.R", "paint.G", "paint.B"))
        query = "?source=night/shot.0001.exr"
        text = self.text(query)
        for words in ("N.X, N.Y, N.Z", "no albedo: textures", "no depth", "no halves", "MB of"):
            self.assertIn(words, text)
        text = self.text(f"{query}&albedo=paint")
        self.assertNotIn("no albedo", text)
        self.assertIn("There is no layer “magic”", self.text(f"{query}&albedo=magic"))
        (self.folder / "night/broken.exr").write_bytes(b"\x76\x2f\x31\x01 cut")
        self.assertIn("not an EXR that can be read", self.text("?source=night/broken.exr"))
        self.assertIn("not below the folder", self.text("?source=../x.exr"))

    def test_from_asking_to_written(self) -> None:
        true = [self.write(f"night/shot.{n:04d}.exr", n) for n in (1, 2)]
        ask = "/api/jobs/1/denoise-files"
        for form, words in (
            (self.ask(out="../../x.####.exr"), "not below the folder"),
            (self.ask(out="/tmp/x.####.exr"), "not below the folder"),
            (self.ask(out="x.####.png"), "not called .exr"),
            (self.ask(out="x.exr"), "One of both names"),
            (self.ask(source="night/none.####.exr"), "No file is called"),
            (self.ask(out="night/shot.####.exr"), "written over itself"),
        ):
            self.assertIn(words, self.refused("POST", ask, json=form)["error"])
        self.refused("POST", ask, 422, json=self.ask(strength=101))
        self.done("POST", ask, json=self.ask())
        told = self.refused("POST", ask, json=self.ask())
        self.assertIn("already", told["error"])
        self.assertIn("Denoising files", self.text())
        self.assertEqual(do_tasks(self.home, "denoise_files"), 1)
        for n, clean in zip((1, 2), true, strict=True):
            raw, got = (
                read_exr(self.folder / f"{name}/shot.{n:04d}.exr", exr_names())["beauty"]
                for name in ("night", "clean")
            )
            self.assertLess(rms(got, clean), 0.5 * rms(raw, clean))
        self.assertIn("2 of 2 written as clean/shot.####.exr", self.text())
        told = self.refused("POST", ask, json=self.ask())
        self.assertIn("there already", told["error"])
        told = self.refused("POST", ask, json=self.ask(there="skip"))
        self.assertIn("All of them", told["error"])

    def test_going_on(self) -> None:
        """What it wrote before it was stopped is not done again, even where it writes over."""
        for n in (1, 2):
            self.write(f"night/shot.{n:04d}.exr", n)
        (self.folder / "clean").mkdir()
        old = self.folder / "clean/shot.0002.exr"
        self.write("clean/shot.0002.exr", 9)
        os.utime(old, (1, 1))
        self.done("POST", "/api/jobs/1/denoise-files", json=self.ask(there="overwrite"))
        self.write("clean/shot.0001.exr", 7)  # as if written before it was stopped
        before = (self.folder / "clean/shot.0001.exr").read_bytes()
        self.assertEqual(do_tasks(self.home, "denoise_files"), 1)
        self.assertEqual((self.folder / "clean/shot.0001.exr").read_bytes(), before)
        self.assertGreater(old.stat().st_mtime, 1)
        with self.home.sessions() as db:
            task = db.scalars(select(Task).where(Task.kind == "denoise_files")).one()
            self.assertEqual(task.result["measured"]["frames"], 1)
        self.assertIn("1 of 2 were done before it was stopped", self.text())

    def test_names_that_lead_out(self) -> None:
        for name in ("", "/etc/x.exr", "../x.exr", "night/../../x.exr", "a\0b.exr", "x.png"):
            with self.assertRaises(MillError, msg=name):
                inside(self.folder, name)
        self.assertEqual(inside(self.folder, "a/b.exr"), self.folder / "a/b.exr")
