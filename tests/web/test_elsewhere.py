"""Pictures made elsewhere, in the trial book beside what was rendered here."""

from __future__ import annotations

import io
import json
import math
import unittest
from unittest import mock

import numpy as np
import OpenImageIO as oiio
from PIL import Image as Pillow

from mill_lane.core.formats.exr import write_exr
from mill_lane.core.formats.outside_pictures import colour_channels
from mill_lane.jobs.lookup import (
    TrialFigures,
    find_job,
    find_render,
    find_version,
    is_elsewhere,
    trial_log,
)
from mill_lane.jobs.summary import estimate_for, summarise
from mill_lane.web.stations.trials import view
from mill_lane.web.stations.trials.chart import chart
from mill_lane.web.stations.trials.log import ratios
from tests.web.case import WebCase

SIZE = (96, 54)
FOUR_TO_THREE = {"width": 1024, "height": 768}
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
        log = " ".join(self.page("/jobs/1/trials").get_text().split())
        self.assertIn("3:20 min as told", log)
        self.assertIn("3:20 min as told", self.page("/jobs/1/trials/book").get_text())

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
        """Of the frame as it is now."""
        self.sent(encoded(grey(size=(80, 60))))
        for size, told in (({"width": 1920, "height": 1080}, True), (FOUR_TO_THREE, False)):
            self.done("PUT", "/api/jobs/1/recipes/final", json=size)
            row = self.page("/jobs/1/trials").select("tbody tr")[0].get_text()
            self.assertEqual("another shape" in row, told)

    def test_a_crop_stands_where_its_file_says(self) -> None:
        """OpenEXR's data window within its display window; one that reaches beyond is all of it."""
        light = np.full((16, 24, 3), 0.5, np.float32)
        for origin, crop in (((8, 4), (8 / 96, 4 / 54, 32 / 96, 20 / 54)), ((-4, 0), (0, 0, 1, 1))):
            path = self.folder / "crop.exr"
            spec = oiio.ImageSpec(24, 16, 3, "half")
            spec.x, spec.y = origin
            spec.full_width, spec.full_height = SIZE
            out = oiio.ImageOutput.create(str(path))
            self.assertTrue(out.open(str(path), spec) and out.write_image(light))
            out.close()
            number = self.sent(path.read_bytes(), "crop.exr")
            viewer = self.page(f"/jobs/1/trials?b={number}").find("image-viewer")
            rect = [float(x) for x in str(viewer["data-b-rect"]).split(",")]
            np.testing.assert_allclose(rect, crop, atol=1e-5)

    def test_a_crop_that_is_said(self) -> None:
        """PNG knows no place: the crop that is drawn says it, at the picture's own pixels."""

        def rect() -> list[float]:
            viewer = self.page(f"/jobs/1/trials?b={number}").find("image-viewer")
            return [float(x) for x in str(viewer["data-b-rect"]).split(",")]

        number = self.sent(encoded(grey(size=(48, 27))))
        with self.home.sessions() as db:
            trial = trial_log(db, find_job(db, 1), [number])[0].id
        at = f"/api/trials/{trial}/place"
        self.done("PUT", at, json={"crop": "0.25,0.5,0.5,0.75"})
        np.testing.assert_allclose(rect(), (0.25, 0.5, 0.5, 0.75), atol=1e-5)
        # Drawn by hand: a few pixels off, the middle stays.
        self.done("PUT", at, json={"crop": "0.25,0.5,0.5,0.76"})
        np.testing.assert_allclose(rect(), (0.25, 0.505, 0.5, 0.755), atol=0.006)
        kept = rect()
        for crop, words in (
            ("0.25,0.5,0.5,0.6", "another shape"),
            ("0.5,0.5,0.501,0.501", "Draw a larger crop"),
            ("x", "is no crop"),
            ("", "No crop is drawn"),
        ):
            said = self.refused("PUT", at, json={"crop": crop})
            self.assertIn(words, f"{said['error']} {said['hint']}")
            self.assertEqual(rect(), kept)
        self.done("PUT", at, json={"crop": "0,0,0.5,0.5", "whole": "true"})
        self.assertEqual(rect(), [0, 0, 1, 1])
        mine = self.ended_trial()
        said = self.refused("PUT", f"/api/trials/{mine.id}/place", json={"whole": True})
        self.assertIn("was rendered here", said["error"])

    def test_no_light_is_without_bounds(self) -> None:
        """What is no number is none, what is infinite the most that the file holds."""
        light = np.full((SIZE[1], SIZE[0], 3), 0.5, np.float32)
        light[0, 0], light[1, 1], light[2, 2] = np.inf, np.nan, -1.0
        path = self.folder / "odd.exr"
        write_exr(path, {"beauty": light}, names={"beauty": ("R", "G", "B")})
        self.sent(path.read_bytes(), "odd.exr")
        with self.home.sessions() as db:
            measured = find_render(db, 1, "trial").measured
        self.assertTrue(all(math.isfinite(v) for v in measured.values()), measured)
        for place, wanted in (("0.001&y=0.001", 65504.0), ("0.015&y=0.03", 0.0)):
            said = self.client.get(f"/api/trials/1/pixel?x={place}").json()
            np.testing.assert_allclose(said["values"]["beauty"], wanted, rtol=1e-3)

    def test_what_was_told_is_not_shown_as_measured(self) -> None:
        """In the chart it is marked and never the best; of a ratio with an estimate it is said."""
        whole = (0.0, 0.0, 1.0, 1.0)
        log = [TrialFigures(n, whole, 10.0 * n, 0.1 / n, n != 2) for n in (3, 2, 1)]
        part = (0.0, 0.0, 0.5, 0.5)
        newer = [TrialFigures(9, part, 5.0, 0.1, False), *log]
        for a, b, shown in ((None, None, set()), (None, log[0].number, {r.number for r in log})):
            found = chart(newer, a, b)  # of the crop that is shown
            self.assertEqual({p.number for p in found.points} if found else set(), shown)
        drawn = chart(log, None, None)
        assert drawn is not None
        self.assertEqual({p.number: p.here for p in drawn.points}, {1: True, 2: False, 3: True})
        self.assertEqual(drawn.steps.count("V"), 2)  # steps down at 1 and 3
        told = chart([TrialFigures(n, whole, 10.0 * n, 0.1, False) for n in (2, 1)], None, None)
        assert told is not None
        self.assertEqual(told.steps, "")
        mine, theirs = {"seconds": 2.0, "noise": 0.2}, {"seconds": 1.0, "noise": 0.1}
        self.assertEqual(ratios(mine, theirs).noise, "× 2")
        self.assertEqual(ratios(mine, theirs, sure=False).noise, "about × 2")

    def test_told_against_the_newest_whose_settings_are_known(self) -> None:
        """Also where that one is no row of the page itself."""
        self.ended_trial(bounces=1)
        for _ in range(2):
            self.sent(encoded(grey()))
        self.ended_trial(bounces=0)
        with mock.patch.object(view, "NEWEST", 1):
            rows = self.page("/jobs/1/trials").select("tbody tr")
        self.assertEqual(len(rows), 1)
        self.assertIn("bounces 1 → 0", rows[0].get_text())

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
