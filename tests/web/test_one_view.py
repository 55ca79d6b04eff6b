"""One view through everything: the crop, the pair and what is left out stay through it all."""

from __future__ import annotations

from typing import Any
from urllib.parse import parse_qs, urlsplit

from sqlalchemy import select

from mill_lane.core.crop import crop_of, crop_text, pixels_of
from mill_lane.core.render.display import MADE
from mill_lane.jobs.lookup import find_job, recipe_of
from mill_lane.store.models import Render, Task
from tests.homes import do_tasks
from tests.web.case import SMALL, WebCase

CROP = "0.357292,0.25,0.466667,0.5"


class TestOneView(WebCase):
    def trial(self, **more: Any) -> Render:
        self.done("POST", "/api/jobs/1/trials", json=SMALL | more)
        with self.home.sessions() as db:
            return db.scalars(select(Render).order_by(Render.id.desc()).limit(1)).one()

    def recipe(self, role: str) -> Any:
        with self.home.sessions() as db:
            return recipe_of(db, find_job(db, 1), role)

    def role_link(self, page: Any, role: str) -> str:
        return str(next(a["href"] for a in page.select("#trial a") if a.get_text() == role))

    def test_the_crop_is_a_share_of_the_frame(self) -> None:
        """From draft to final and through another size it is the same part of the view."""
        for role, size in (("draft", (960, 540)), ("final", (1920, 1080))):
            page = self.page(f"/jobs/1/trials?crop={CROP}&role={role}")
            viewer = page.find("image-viewer")
            self.assertEqual(viewer["data-crop"], CROP)  # type: ignore[index]
            edges = [int(str(e["value"])) for e in page.select("[data-edge]")]
            self.assertEqual(edges, list(pixels_of(crop_of(CROP), *size)))
        self.assertIn(f"crop={CROP.replace(',', '%2C')}", self.role_link(page, "draft"))
        for width, height in ((96, 54), (64, 36), (320, 180)):
            trial = self.trial(width=width, height=height, crop=CROP)
            self.assertEqual(trial.region, list(pixels_of(crop_of(CROP), width, height)))

    def test_layers_of_the_final_frame(self) -> None:
        """They are chosen where the final recipe is; all may go, but for what denoising needs."""
        edit = "/api/jobs/1/recipes/final"
        for station in ("finish", "trials?role=final"):
            boxes = self.page(f"/jobs/1/{station}").select("input[type=checkbox][name=layers]")
            self.assertIn("motion", [b["value"] for b in boxes])
            self.assertTrue(all(b.has_attr("data-list") for b in boxes))
        self.done("PUT", edit, json={"layers": ["", "motion", "depth"]})
        self.assertEqual(self.recipe("final").layers, ("motion", "depth"))
        page = self.page("/jobs/1/finish")
        ticked = [b["value"] for b in page.select("input[name=layers][checked]")]
        self.assertEqual(set(ticked), {"motion", "depth"})
        self.done("PUT", edit, json={"layers": [""]})
        self.assertEqual(self.recipe("final").layers, ())
        self.done("PUT", edit, json={"denoise": "with"})
        page = self.page("/jobs/1/finish")
        self.assertGreaterEqual(len(page.select("input[name=layers][checked]")), 5)

    def test_samples_reached_are_told_where_something_else_ended_a_trial(self) -> None:
        self.trial(samples=4096, min_samples=2, noise=0.9, converged_fraction=0.5)
        do_tasks(self.home, "render")
        row = self.page("/jobs/1/trials").select("table tr[title]")[0]
        self.assertRegex(row.get_text(" "), r"clean enough, [\d.]+ samples a pixel")
        self.assertRegex(str(row["title"]), r"[\d.]+ samples a pixel reached, clean enough")

    def test_layers_of_the_look_are_offered_before_there_is_a_trial(self) -> None:
        options = self.page("/jobs/1/trials").select("[data-param=layer] option")
        offered = {str(o["value"]) for o in options}
        self.assertLessEqual({"beauty", "albedo", "indirect_diffuse", *MADE.names}, offered)

    def test_every_link_of_the_page_answers(self) -> None:
        for _ in range(2):
            self.trial()
        do_tasks(self.home, "render")
        for query in ("?a=1", "?a=2&b=1&panel=denoise"):
            page = self.page(f"/jobs/1/trials{query}")
            found = {str(a["href"]) for a in page.select("main a[href^='?']")}
            self.assertGreaterEqual(len(found), 4)
            for link in found:
                self.assertNotIn("=&", f"{link}&")
                self.page(f"/jobs/1/trials{link}")

    def test_what_is_asked_for_stays_in_every_link(self) -> None:
        self.trial()
        self.trial()
        do_tasks(self.home, "render")
        view = f"a=1&b=2&crop={CROP}&layer=albedo&hide=fog%2Cindirect&only_object=oven&panel=book"
        page = self.page(f"/jobs/1/trials?{view}")
        links = [self.role_link(page, "final")]
        links += [str(a["href"]) for a in page.select("nav[aria-label='Below the picture'] a")]
        for link in links:
            said = parse_qs(urlsplit(link).query)
            kept = {name: said[name][0] for name in ("a", "b", "crop", "layer", "hide")}
            self.assertEqual(
                kept, {"a": "1", "b": "2", "crop": CROP, "layer": "albedo", "hide": "fog,indirect"}
            )
        ticked = [i["value"] for i in page.select("input[name=hide][checked]")]
        self.assertEqual(sorted(map(str, ticked)), ["fog", "indirect"])
        self.assertEqual(page.select("input[name=only_object]")[0]["value"], "oven")
        go = self.done("POST", "/api/jobs/1/trials", json=SMALL | {"role": "final", "after": 2})
        said = parse_qs(urlsplit(str(go["go"])).query)
        self.assertEqual(said, {"b": ["3"], "a": ["2"], "role": ["final"]})

    def test_how_few_samples_hold_looks_where_the_crop_is(self) -> None:
        """Drawn on a draft of another size than the final picture."""
        self.done("POST", "/api/jobs/1/samples-that-hold", json={"crop": CROP, "target": "30"})
        with self.home.sessions() as db:
            task = db.scalars(select(Task).where(Task.kind == "hold")).one()
        x0, y0, x1, y1 = pixels_of(crop_of(CROP), 1920, 1080)
        left, top, right, bottom = task.payload["region"]
        self.assertEqual((left + right) // 2, (x0 + x1) // 2)
        self.assertEqual((top + bottom) // 2, (y0 + y1) // 2)
        self.assertTrue(x0 <= left < right <= x1 and y0 <= top < bottom <= y1)

    def test_what_is_typed_for_a_trial_stays_in_its_recipe(self) -> None:
        """Also in the final one; without an end, and what a trial keeps, are of the trial alone."""
        before = self.recipe("final")
        self.trial(role="final", bounces=3, endless=True)
        after = self.recipe("final")
        self.assertEqual((after.bounces, after.samples, after.width), (3, 2, 96))
        self.assertEqual(after.layers, before.layers)
        self.assertEqual(self.recipe("draft").width, 960)

    def test_up_to_four_in_a_row(self) -> None:
        """Named by the address, two beside the two that are compared; others give way to them."""
        trials = [self.ended_trial(bounces=k) for k in range(5)]
        at = "/jobs/1/trials?a=1&b=2&also="
        viewer = self.page(at + "3,4,5,2,99,x").find("image-viewer")
        assert viewer is not None
        self.assertIn(trials[2].picture, str(viewer["data-c"]))  # type: ignore[index]
        self.assertIn(trials[3].picture, str(viewer["data-d"]))  # type: ignore[index]
        names = str(viewer["data-names"])  # type: ignore[index]
        self.assertEqual(names, "trial 1,trial 2,trial 3,trial 4")
        links = self.page(at + "3").select("a[title^='In a row']")
        rows = [parse_qs(urlsplit(str(x["href"])).query).get("also", [""])[0] for x in links]
        self.assertEqual(rows, ["3,5", "3,4", ""])  # of trials 5, 4, 3
        full = self.page(at + "3,4").select("a[title^='In a row']")[0]
        self.assertEqual(parse_qs(urlsplit(str(full["href"])).query)["also"], ["4,5"])
        for alone in ("?a=1&also=3", "?also=3"):
            viewer = self.page(f"/jobs/1/trials{alone}").find("image-viewer")
            self.assertFalse(viewer.has_attr("data-c"))  # type: ignore[union-attr]

    def test_a_crop_that_is_none(self) -> None:
        for crop in ("nonsense", "2,2,3,3", "0,0,0,0"):
            page = self.page(f"/jobs/1/trials?crop={crop}")
            self.assertEqual(page.find("image-viewer")["data-crop"], "")  # type: ignore[index]
            told = self.refused("POST", "/api/jobs/1/trials", json=SMALL | {"crop": crop})
            self.assertIn("crop", told["error"])
        self.assertEqual(crop_text(crop_of("0,0,1,1")), "")
