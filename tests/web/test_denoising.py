"""Noise taken out in the pages: trials, blends, how few samples hold, frames."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image
from sqlalchemy import select

from mill_lane.core.crop import crop_of, crop_text, pixels_of, shares_of
from mill_lane.core.denoise.verdict import Verdict
from mill_lane.core.errors import MillError
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.store.models import RecipeRow, Render, Task
from tests.homes import do_tasks
from tests.web.case import WebCase

PANEL = "/jobs/1/trials?b=%d&panel=denoise&layer=%s"
CROP = crop_text(shares_of((40, 20, 104, 68), 160, 90))


class TestDenoising(WebCase):
    def trial(self, **more: int | str) -> int:
        """A small trial on this computer, queued; its number in the database."""
        form = {"width": 160, "height": 90, "samples": 8, "min_samples": 4, "device": 1}
        self.done("POST", "/api/jobs/1/trials", json=form | more)
        with self.home.sessions() as db:
            return max(db.scalars(select(Render.id)))

    def text(self, path: str) -> str:
        return " ".join(self.page(path).get_text().split())

    def pixels(self, path: str) -> np.ndarray:
        answer = self.client.get(path)
        self.assertEqual(answer.headers["content-type"], "image/png", path)
        return np.asarray(Image.open(io.BytesIO(answer.content)))

    def test_from_asking_to_wiping(self) -> None:
        waiting = self.trial(samples=4)
        told = self.refused("POST", f"/api/trials/{waiting}/denoise", json={})
        self.assertIn("no picture yet", told["error"])
        trial = self.trial(crop=CROP)
        self.assertIn("A finished trial can be denoised", self.text(PANEL % (1, "beauty")))
        self.assertEqual(do_tasks(self.home, "render"), 2)
        ask = f"/api/trials/{trial}/denoise"
        self.refused("POST", ask, 422, json={"mode": "magic"})
        self.refused("POST", ask, 422, json={"radius": 0})
        told = self.refused("POST", ask, json={"components": ["magic"]})
        self.assertIn("no light component", told["error"])
        self.refused("POST", "/api/trials/999/denoise", 404, json={})
        self.assertEqual(self.client.get(f"/trials/{trial}/denoised.png").status_code, 404)
        self.assertIn("Denoise trial 2", self.text(PANEL % (2, "beauty")))
        self.done("POST", ask, json={})
        self.done("POST", ask, json={})  # once is enough
        self.assertIn("Denoising trial 2", self.text(PANEL % (2, "beauty")))
        self.assertEqual(do_tasks(self.home, "denoise"), 1)
        page = self.page(PANEL % (2, "denoised"))
        text = " ".join(page.get_text().split())
        self.assertRegex(text, r"in [\d.]+ s, light [+-][\d.]+ %")
        self.assertIn("Detail lost beyond the noise", text)
        self.assertIn("raw", text)
        viewer = page.find("image-viewer")
        assert viewer is not None
        clean, raw = str(viewer["data-b"]), str(viewer["data-a"])  # type: ignore[index]
        with self.home.sessions() as db:
            told = db.scalars(select(Task).where(Task.kind == "denoise")).one().result["measured"]
        share = Verdict(**told["verdict"]).share
        assert share is not None
        self.assertIn(f"strength={round(20 * share) / 20:g}", clean)
        options = [o["value"] for o in page.select("select[data-param='layer'] option")]
        self.assertLessEqual({"denoised", "lost"}, set(options))
        for place in page.select("[data-place]"):
            x0, y0, x1, y1 = pixels_of(crop_of(str(place["data-place"])), 160, 90)
            self.assertTrue(40 <= x0 < x1 <= 104 and 20 <= y0 < y1 <= 68)
        with self.home.sessions() as db:
            task = db.scalars(select(Task).where(Task.kind == "denoise")).one()
            self.assertLess(abs(task.result["measured"]["light_change"]), 0.01)
        self.blends(trial, raw)

    def blends(self, trial: int, raw: str) -> None:
        """Strength, place and detail change what is shown, and nothing is computed anew."""
        at = f"/trials/{trial}/denoised.png?strength="
        shown = {s: self.pixels(f"{at}{s}").astype(int) for s in ("0", "0.5", "1")}
        np.testing.assert_array_equal(shown["0"], self.pixels(raw)[..., :3])
        low = np.minimum(shown["0"], shown["1"]) - 1
        self.assertTrue((low <= shown["0.5"]).all())
        self.assertGreater(np.abs(shown["1"] - shown["0"]).mean(), 0.5)
        back = self.pixels(f"{at}1&detail=1").astype(int)
        between = np.abs(back - shown["0"]).mean()
        self.assertLessEqual(between, np.abs(shown["1"] - shown["0"]).mean())
        for mask in ("dark", "noise"):
            self.pixels(f"{at}1&mask={mask}")
        self.assertEqual(self.client.get(f"{at}1&mask=magic").status_code, 422)
        self.assertEqual(self.client.get(f"{at}7").status_code, 422)
        answer = self.client.get(f"/trials/{trial}/denoised.exr")
        self.assertEqual(answer.content[:4], b"\x76\x2f\x31\x01")  # OpenEXR's magic number
        self.page(PANEL % (2, "denoised") + "&strength=nan&mask=no&detail=9")

    def test_other_ways_of_working(self) -> None:
        """Guides and components by choice; a way of working takes the other's place."""
        trial = self.trial(crop=CROP)
        do_tasks(self.home, "render")
        ask = f"/api/trials/{trial}/denoise"
        self.done("POST", ask, json={"mode": "preview", "albedo": "0.5", "depth": "0"})
        self.done("POST", ask, json={"components": "indirect_diffuse"})
        self.assertEqual(do_tasks(self.home, "denoise"), 2)
        with self.home.sessions() as db:
            tasks = list(db.scalars(select(Task).where(Task.kind == "denoise").order_by(Task.id)))
            self.assertEqual(tasks[0].payload["guides"], {"albedo": 0.5, "depth": 0.0})
            notes = " ".join(tasks[1].result["measured"]["notes"])
        self.assertIn("components have no halves", notes)
        page = self.page(PANEL % (1, "denoised"))
        boxes = page.select("input[name='components'][checked]")
        self.assertEqual([b["value"] for b in boxes], ["indirect_diffuse"])

    def grey(self, width: int, height: int, white: slice = slice(0, 0)) -> bytes:
        """A mask as PNG, white in some columns."""
        pixels = np.zeros((height, width), np.uint8)
        pixels[:, white] = 255
        out = io.BytesIO()
        Image.fromarray(pixels).save(out, "PNG")
        return out.getvalue()

    def test_masks(self) -> None:
        """Painted, loaded and picked: clean inside, raw outside, both to the bit."""
        trial = self.trial(crop=CROP)
        do_tasks(self.home, "render")
        self.done("POST", f"/api/trials/{trial}/denoise", json={})
        do_tasks(self.home, "denoise")
        at, mask = f"/trials/{trial}/denoised.png?strength=", f"/api/trials/{trial}/mask"
        raw, clean = self.pixels(f"{at}0"), self.pixels(f"{at}1")
        self.assertIn("No mask was painted", self.client.get(f"{at}1&mask=picture").text)
        for body, words in (
            (b"no picture", "is not a PNG"),
            (self.grey(63, 48), "the trial needs 64 and 48 or 160 and 90"),
            (self.grey(64, 48)[:60], "cannot be read"),
        ):
            told = self.refused("POST", f"{mask}?name=m.png", content=body)
            self.assertIn(words, told["error"])
        self.refused("POST", "/api/trials/99/mask?name=m.png", 404, content=self.grey(64, 48))
        self.done("POST", f"{mask}?name=m.png", content=self.grey(64, 48, slice(0, 30)))
        shown = self.pixels(f"{at}1&mask=picture")
        np.testing.assert_array_equal(shown[:, :30], clean[:, :30])
        np.testing.assert_array_equal(shown[:, 30:], raw[:, 30:])
        # One of the whole picture is cut to the crop, which begins at column 40.
        self.done("POST", f"{mask}?name=m.png", content=self.grey(160, 90, slice(90, 160)))
        whole = self.pixels(f"{at}1&mask=picture")
        np.testing.assert_array_equal(whole[:, :50], raw[:, :50])
        np.testing.assert_array_equal(whole[:, 50:], clean[:, 50:])
        self.assertIn("painted=", str(self.page(PANEL % (1, "denoised") + "&mask=picture")))
        self.done("DELETE", mask)
        text = self.text(PANEL % (1, "denoised") + "&mask=picture")
        self.assertIn("Nothing is painted yet", text)
        self.done("POST", f"{mask}/undo", json={})
        np.testing.assert_array_equal(self.pixels(f"{at}1&mask=picture"), whole)
        for _ in range(2):
            self.done("POST", f"{mask}/undo", json={})
        self.assertIn("no mask", self.refused("POST", f"{mask}/undo", json={})["error"])
        self.picks(trial, raw, clean)

    def picks(self, trial: int, raw: np.ndarray, clean: np.ndarray) -> None:
        """An object is found at a place, and cleaned alone."""
        place = f"/api/trials/{trial}/object?x={70.5 / 160}&y={40.5 / 90}"
        number = self.client.get(place).json()["object"]
        self.assertGreater(number, 0)
        outside = self.client.get(f"/api/trials/{trial}/object?x=0.01&y=0.5")
        self.assertIn("inside its crop", outside.json()["hint"])
        mine = f"/trials/{trial}/denoised.png?strength=1&mask=objects&objects={number}"
        shown = self.pixels(mine)
        np.testing.assert_array_equal(shown[20, 30], clean[20, 30])
        both = (shown == raw).all(-1) | (shown == clean).all(-1)
        self.assertTrue(both.all())
        np.testing.assert_array_equal(self.pixels(mine.replace(f"={number}", "=,x")), raw)
        page = self.page(PANEL % (1, "denoised") + f"&mask=objects&objects={number}")
        pressed = page.select("button[data-number][aria-pressed='true']")
        self.assertLessEqual(len(pressed), 1)
        self.assertIn(f"by number: {number}", " ".join(page.get_text().split()))

    def test_frames_before_and_after(self) -> None:
        """Used where there are some of the same size and crop, and said how many."""
        crop = {"crop": CROP}
        middle = self.trial(frame=2, **crop)
        for frame in (1, 3, 4):
            self.trial(frame=frame, **crop)
        self.trial(frame=3)  # another crop
        do_tasks(self.home, "render")
        self.refused("POST", f"/api/trials/{middle}/denoise", 422, json={"beside": 4})
        self.assertIn("of 3 that are there", self.text(PANEL % (1, "beauty")))
        at = f"/trials/{middle}/denoised.png?strength=1"
        shown = {}
        for beside in (0, 1):
            self.done("POST", f"/api/trials/{middle}/denoise", json={"beside": str(beside)})
            do_tasks(self.home, "denoise")
            shown[beside] = self.pixels(at)
        self.assertTrue((shown[0] != shown[1]).any())
        self.assertIn("2 of the frames before and after were there", self.text(PANEL % (1, "")))

    def test_how_few_samples_hold(self) -> None:
        """A pilot, its curves, its answer set into the recipe."""
        ask = "/api/jobs/1/samples-that-hold"
        self.assertIn("judged by two renders", self.text(PANEL % (1, "beauty")))
        self.done("PUT", "/api/jobs/1/recipes/final", json={"width": 160, "height": 90})
        told = self.refused("POST", ask, json={"target": "0"})
        self.assertIn("not between", told["error"])
        self.refused("POST", ask, json={"frame": 9999})
        self.done("POST", ask, json={"crop": CROP, "target": "30"})
        self.done("POST", ask, json={"crop": CROP, "target": "30"})
        self.assertIn("Pilot of a crop", self.text(PANEL % (1, "beauty")))
        self.assertEqual(do_tasks(self.home, "hold"), 1)
        with self.home.sessions() as db:
            found = db.scalars(select(Task).where(Task.kind == "hold")).one().result["found"]
        counts = [p["samples"] for p in found["points"]]
        self.assertEqual(counts, sorted(set(counts)))
        self.assertEqual(counts[-1], 64)
        self.assertEqual(found["region"], [40, 20, 104, 68])
        self.assertLess(found["points"][-1]["clean"], found["points"][0]["raw"])
        page = self.page(PANEL % (1, "beauty"))
        self.assertEqual(len(page.select("svg[aria-label^='Error'] path")), 2)
        self.assertIn("predicted from the pilot", " ".join(page.get_text().split()))
        values = {
            str(f["name"]): str(f["value"])
            for f in page.select("form[data-method='PUT'] input[type='hidden']")
        }
        self.assertEqual(values["samples"], str(found["samples"]))
        self.done("PUT", "/api/jobs/1/recipes/final", json=values)
        self.assertIn("The final recipe has them", self.text(PANEL % (1, "beauty")))
        with self.home.sessions() as db:
            row = db.scalars(select(RecipeRow).where(RecipeRow.chosen == "final")).one()
            self.assertEqual(read_recipe(row.data).samples, found["samples"])

    def test_a_sky_that_is_gone(self) -> None:
        """The pilot says so, rather than render with no sky."""
        gone = f"{'0' * 64}/64x32/dawn.hdr"
        with self.home.sessions.begin() as db:
            row = db.scalars(select(RecipeRow).where(RecipeRow.chosen == "final")).one()
            row.data = {**row.data, "environment_picture": gone}
        self.done("POST", "/api/jobs/1/samples-that-hold", json={"target": "30"})
        with self.assertRaisesRegex(MillError, "sky picture is no longer there"):
            do_tasks(self.home, "hold")

    def test_the_noise_has_no_map_without_halves(self) -> None:
        """A trial of one sample a pixel is denoised, and says what it lacks."""
        trial = self.trial(samples=1, min_samples=1, crop="0.25,0.25,0.65,1")
        do_tasks(self.home, "render")
        self.done("POST", f"/api/trials/{trial}/denoise", json={})
        self.assertEqual(do_tasks(self.home, "denoise"), 1)
        page = self.page(PANEL % (1, "denoised") + "&mask=noise")
        self.assertIn("at least two passes", page.get_text())
        masks = [o["value"] for o in page.select("select[data-param='mask'] option")]
        self.assertEqual(masks, ["", "dark", "objects", "picture"])
        viewer = page.find("image-viewer")
        assert viewer is not None
        self.pixels(str(viewer["data-b"]))  # type: ignore[index]
        told = self.client.get(f"/trials/{trial}/denoised.png?strength=1&mask=noise")
        self.assertEqual(told.status_code, 422)

    def test_frames(self) -> None:
        """By hand, with the frame, or afterwards."""
        self.done("PUT", "/api/jobs/1/device", json={"device": 1})
        small = {"width": 96, "height": 54, "samples": 2, "min_samples": 1}
        for choice, kind in (("no", "denoise"), ("with", "denoise"), ("later", "denoise_later")):
            self.done("PUT", "/api/jobs/1/recipes/final", json=small | {"denoise": choice})
            self.done("POST", "/api/jobs/1/runs", json={"frame": 1})
            do_tasks(self.home, "render")
            with self.home.sessions() as db:
                frame = max(db.scalars(select(Render.id)))
                waiting = list(db.scalars(select(Task.kind).where(Task.state == "queued")))
            if choice == "no":
                self.assertNotIn("denoise", waiting)
                self.assertIn("Denoise the frame", self.text("/jobs/1/finish"))
                self.assertEqual(self.client.get(f"/frames/{frame}/denoised.exr").status_code, 404)
                self.done("POST", f"/api/frames/{frame}/denoise")
            else:
                self.assertIn(kind, waiting)
            self.assertIn("Denoising frame 1", self.text("/jobs/1/finish"))
            self.assertEqual(do_tasks(self.home, kind), 1)
            page = self.page("/jobs/1/finish?layer=denoised")
            picture = page.select("img[alt='Frame 1, denoised']")
            self.assertEqual(len(picture), 1)
            self.assertIn("light", page.get_text())
            self.pixels(str(picture[0]["src"]))
            name = self.client.get(f"/frames/{frame}/denoised.exr").headers["content-disposition"]
            self.assertIn("frame%200001", name.replace(" ", "%20"))

    def test_the_ledger(self) -> None:
        """Beside the scene it needs room of its own; later it needs none."""
        self.assertEqual(self.client.get("/jobs/1/fit?denoise=magic").status_code, 422)
        self.done("PUT", "/api/jobs/1/device", json={"device": 1})
        at = "/jobs/1/fit?width=640&height=360&denoise="
        shown = {c: self.text(at + c) for c in ("no", "with", "later")}
        self.assertIn("Denoiser", shown["with"])
        for choice in ("no", "later"):
            self.assertNotIn("Denoiser", shown[choice])
        self.assertIn("with each frame", shown["no"])
