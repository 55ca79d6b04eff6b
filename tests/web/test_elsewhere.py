"""Pictures made elsewhere, in the trial book beside what was rendered here."""

from __future__ import annotations

import io
import json
import unittest

import numpy as np
from PIL import Image as Pillow

from mill_lane.core.formats.exr import write_exr
from mill_lane.core.formats.outside_pictures import colour_channels
from mill_lane.jobs.elsewhere import is_elsewhere
from mill_lane.jobs.lookup import find_job, find_render, find_version
from mill_lane.jobs.summary import estimate_for, summarise
from tests.web.case import WebCase

SIZE = (96, 54)
SEND = "/api/jobs/1/elsewhere?name="


def encoded(pixels: np.ndarray, kind: str = "PNG") -> bytes:
    out = io.BytesIO()
    Pillow.fromarray(pixels).save(out, kind)
    return out.getvalue()


def grey(code: int = 118, size: tuple[int, int] = SIZE) -> np.ndarray:
    return np.full((size[1], size[0], 3), code, np.uint8)


class TestElsewhere(WebCase):
    def sent(self, content: bytes, name: str = "theirs.png") -> int:
        """Send a picture; the number of its trial."""
        said = self.done("POST", SEND + name, content=content)
        return int(said["go"].rpartition("b=")[2])

    def linear(self, noise: float, seed: int) -> bytes:
        """An EXR of half the light of white, with so much noise in each pixel."""
        rng = np.random.default_rng(seed)
        light = 0.5 * (1.0 + noise * rng.standard_normal((SIZE[1], SIZE[0], 1)))
        path = self.folder / "linear.exr"
        names = {"beauty": ("R", "G", "B")}
        write_exr(path, {"beauty": np.repeat(light, 3, 2).astype(np.float32)}, names=names)
        return path.read_bytes()

    def test_compared_like_any_other(self) -> None:
        mine = self.ended_trial()
        number = self.sent(encoded(grey()))
        page = self.page(f"/jobs/1/trials?a={mine.number}&b={number}")
        book = page.find(attrs={"aria-label": "Trial book"})
        self.assertIn("made elsewhere", book.get_text())
        self.assertEqual(page.find("image-viewer")["data-b"].split("/")[1], "files")
        with self.home.sessions() as db:
            theirs = find_render(db, mine.id + 1, "trial")
            # sRGB 118 is mid-grey, 18 % of the light (IEC 61966-2-1).
            self.assertAlmostEqual(theirs.measured["mean_luminance"], 0.18, delta=0.002)
        shown = self.client.get(f"/trials/{theirs.id}/exposed.png?stops=1")
        brighter = np.asarray(Pillow.open(io.BytesIO(shown.content)))
        self.assertAlmostEqual(float(brighter.mean()), 162, delta=2)  # 36 % of the light
        said = self.client.get(f"/api/trials/{theirs.id}/pixel?x=0.5&y=0.5").json()
        np.testing.assert_allclose(said["values"]["beauty"], 0.18, atol=0.002)
        small = Pillow.open(io.BytesIO(self.client.get(f"/trials/{theirs.id}/small.jpg").content))
        self.assertLessEqual(small.size, (160, 120))

    def test_what_is_told_of_it(self) -> None:
        self.sent(encoded(grey()))
        for typed, seconds in (("3:20", 200.0), ("1:02:30", 3750.0), ("45.5", 45.5), ("", None)):
            self.done("PUT", "/api/trials/1/figures", json={"time": typed})
            with self.home.sessions() as db:
                self.assertEqual(find_render(db, 1, "trial").measured["seconds"], seconds)
        told = {"time": "200", "samples": "256", "gigabytes": "3.5"}
        self.done("PUT", "/api/trials/1/figures", json=told)
        for bad in ({"time": "soon"}, {"time": "-1"}, {"samples": "nan"}, {"gigabytes": "1e300"}):
            self.refused("PUT", "/api/trials/1/figures", json=bad)
        entry = json.loads(self.client.get("/jobs/1/trials.json").text)[0]
        self.assertTrue(entry["elsewhere"])
        self.assertFalse(entry["noise_measured"])
        self.assertEqual(
            (entry["seconds"], entry["samples_mean"], entry["peak_memory_bytes"], entry["recipe"]),
            (200.0, 256.0, 3_500_000_000, {}),
        )
        self.assertIn("3:20 min", self.page("/jobs/1/trials").get_text())

    def test_noise_estimated_and_measured(self) -> None:
        """Of known noise: 10 % of half the light, and the floor of dark pixels beside it."""
        wanted = 0.1 * 0.5 / (0.5 + 0.05)
        self.sent(self.linear(0.1, 1), "theirs.exr")
        with self.home.sessions() as db:
            self.assertAlmostEqual(
                find_render(db, 1, "trial").measured["noise"], wanted, delta=0.02
            )
        self.assertIn(
            "about", self.page("/jobs/1/trials").find(attrs={"class": "chosen"}).get_text()
        )
        second = "/api/trials/1/second?name=again.exr"
        self.refused("POST", second, content=self.linear(0.1, 1))  # the same once more
        smaller = encoded(grey(size=(32, 18)))
        said = self.refused("POST", second.replace("exr", "png"), content=smaller)
        self.assertIn("32 x 18", said["error"])
        self.done("POST", second, content=self.linear(0.1, 2))
        with self.home.sessions() as db:
            measured = find_render(db, 1, "trial").measured
        self.assertTrue(measured["noise_measured"])
        self.assertAlmostEqual(measured["noise"], wanted, delta=0.005)

    def test_nothing_is_predicted_from_it(self) -> None:
        self.sent(encoded(grey()))
        self.done("PUT", "/api/trials/1/figures", json={"time": "1", "samples": "8"})
        with self.home.sessions() as db:
            job = find_job(db, 1)
            summary = summarise(db, job, find_version(db, job))
            final = summary.final
            self.assertIsNone(estimate_for(db, job, summary.version, final, 100))
        said = self.refused("POST", "/api/trials/1/settings", json={"role": "draft"})
        self.assertIn("elsewhere", said["error"])
        mine = self.ended_trial()
        self.assertFalse(is_elsewhere(mine))
        self.refused("PUT", f"/api/trials/{mine.id}/figures", json={"time": "1"})
        # The one after it is told against the newest whose settings are known.
        later = self.ended_trial(bounces=0)
        self.sent(encoded(grey(200)))
        row = self.page(f"/jobs/1/trials?b={later.number}").find("tr", attrs={"class": "chosen"})
        self.assertIn("bounces", row.get_text())

    def test_another_shape_is_told(self) -> None:
        self.sent(encoded(grey(size=(80, 60))))
        self.assertIn("another shape", self.page("/jobs/1/trials").get_text())

    def test_what_is_no_picture(self) -> None:
        for name, content in (
            ("a.png", b"no picture"),
            (
                "a.png",
                encoded(np.random.default_rng(3).integers(0, 255, (54, 96, 3), np.uint8))[:4000],
            ),
            ("a.txt", encoded(grey())),
            ("a.gif", encoded(grey(), "GIF")),
            ("a.png", encoded(grey(), "BMP")),
            ("tiny.png", encoded(grey(size=(4, 4)))),
            ("wide.png", encoded(np.zeros((1, 50_000_000), np.uint8))),
            ("a.exr", b"v/1\x01" + b"\0" * 200),
            ("x" * 300 + ".png", b""),
        ):
            with self.subTest(name=name[:20], size=len(content)):
                said = self.refused("POST", SEND + name, content=content)
                self.assertTrue(said["hint"])
        self.assertIn("empty", self.page("/jobs/1/trials").get_text())
        self.assertEqual(list(self.home.scratch.iterdir()), [])

    def test_channels_of_layers(self) -> None:
        self.assertEqual(colour_channels(["A", "B", "G", "R", "Z"]), [3, 2, 1])
        layered = ["Image.Depth.V", "beauty.B", "beauty.G", "beauty.R", "albedo.R"]
        self.assertEqual(colour_channels(layered), [3, 2, 1])
        self.assertEqual(colour_channels(["Y"]), [0, 0, 0])


class TestStars(WebCase):
    def test_kept_and_found(self) -> None:
        first, second = self.ended_trial(), self.ended_trial(bounces=1)
        self.done("PUT", f"/api/trials/{first.id}/star", json={"starred": True})
        rows = self.page("/jobs/1/trials?find=starred").select("tbody tr")
        self.assertEqual(len(rows), 1)
        self.assertIn(f"Trial {first.number} left", rows[0].get_text())
        self.done("PUT", f"/api/trials/{first.id}/star", json={"starred": False})
        self.assertEqual(self.page("/jobs/1/trials?find=starred").select("tbody tr"), [])
        self.assertEqual(len(self.page("/jobs/1/trials").select("img.row-picture")), 2)
        self.assertEqual(second.starred, False)


if __name__ == "__main__":
    unittest.main()
