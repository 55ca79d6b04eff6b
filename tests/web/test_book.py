"""The trial book taken along, found by words, read pixel by pixel; recipes as files."""

from __future__ import annotations

import csv
import io
import json
from typing import Any

from mill_lane.core.formats.exr import read_exr
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.layers import exr_names
from mill_lane.jobs import shelf
from mill_lane.jobs.book import as_csv
from mill_lane.jobs.lookup import chosen_recipe, find_job, recipe_of
from tests.web.case import SMALL, WebCase


class TestBook(WebCase):
    def test_taken_along(self) -> None:
        """Whatever is written into a note, a spreadsheet takes it for text."""
        self.ended_trial(note="=1+1", bounces=1)
        self.done("POST", "/api/jobs/1/trials", json=SMALL | {"note": "waits, “and” so on"})
        entries = json.loads(self.client.get("/jobs/1/trials.json").text)
        self.assertEqual([e["number"] for e in entries], [1, 2])
        self.assertEqual(Recipe.model_validate(entries[0]["recipe"]).bounces, 1)
        self.assertGreater(entries[0]["seconds"], 0)
        self.assertIsNone(entries[1]["seconds"])
        answer = self.client.get("/jobs/1/trials.csv")
        self.assertIn("attachment", answer.headers["Content-Disposition"])
        rows = list(csv.DictReader(io.StringIO(answer.text)))
        self.assertEqual([r["note"] for r in rows], ["'=1+1", "waits, “and” so on"])
        self.assertEqual(as_csv([{"left_out": {"=x": 1}, "recipe": {}}]).split()[1], "'=x=1")
        self.assertEqual((rows[0]["recipe.bounces"], rows[1]["recipe.width"]), ("1", "96"))
        self.assertEqual(self.client.get("/jobs/9/trials.csv").status_code, 404)

    def test_found_by_words(self) -> None:
        for k in range(3):
            self.done("POST", "/api/jobs/1/trials", json=SMALL | {"note": f"jars {k}"})
        self.done("POST", "/api/jobs/1/trials", json=SMALL | {"crop": "0,0,0.5,0.5"})
        self.done("PUT", "/api/jobs/1/device", json={"device": 1})
        for words, found in (
            ("jars 1", 1),
            ("JARS", 3),
            ("nothing of it", 0),
            ("base", 1),
            ("jars, whole", 3),
            ("48 × 27", 1),
            ("scene version 1", 4),
            ("version 2", 0),
            ("cpu,JARS,", 3),
        ):
            page = self.page(f"/jobs/1/trials?find={words}")
            self.assertEqual(len(page.select("tbody tr[title]")), found, words)
        self.assertIn(
            "No trial has these words",
            page.get_text() if not found else self.page("/jobs/1/trials?find=nothing").get_text(),
        )

    def test_to_print(self) -> None:
        """Each with its picture; what is looked for only; told against the one that is pinned."""
        self.assertIn("No trial yet", self.page("/jobs/1/trials/book").get_text())
        first = self.ended_trial(note="<b>jars</b> & lids")
        self.done("POST", "/api/jobs/1/trials", json=SMALL | {"note": "waits", "bounces": 1})
        self.done("PUT", "/api/jobs/1/base", json={"base": 1})
        page = self.page("/jobs/1/trials/book")
        said = [s.get_text() for s in page.select("main section")]
        self.assertEqual(len(said), 2)
        self.assertIn("<b>jars</b> & lids", said[1])
        self.assertIn("against trial 1", page.get_text())
        self.assertEqual(
            [i["src"] for i in page.select("main img")], [f"/files/{first.picture}.png"]
        )
        page = self.page("/jobs/1/trials/book?find=waits,+whole")
        self.assertEqual(len(page.select("main section")), 1)
        self.assertEqual(self.client.get("/jobs/9/trials/book").status_code, 404)
        self.assertEqual(self.client.get(f"/jobs/1/trials/book?find={'x' * 201}").status_code, 422)

    def test_a_pixel(self) -> None:
        """Linear values as they are in the file, by shares of the whole picture."""
        trial = self.ended_trial(crop="0.25,0.25,0.75,0.75")
        planes = read_exr(self.home.files.path(trial.exr or ""), exr_names())
        at = f"/api/trials/{trial.id}/pixel"
        found = self.done("GET", f"{at}?x=0.5&y=0.5")
        self.assertEqual((found["x"], found["y"]), (48, 27))
        values: Any = found["values"]
        x0, y0 = trial.region[:2]
        expected = planes["beauty"][27 - y0, 48 - x0]
        for got, want in zip(values["beauty"], expected, strict=True):
            self.assertAlmostEqual(got, float(want), places=5)
        self.assertEqual(values["samples"], [2.0])
        self.assertIn("object", found)
        self.refused("GET", f"{at}?x=0.1&y=0.1")
        self.assertEqual(self.client.get(f"{at}?x=2&y=0").status_code, 422)
        self.done("POST", "/api/jobs/1/trials", json=SMALL)
        self.refused("GET", f"/api/trials/{trial.id + 1}/pixel?x=0.5&y=0.5")


class TestRecipeFiles(WebCase):
    def recipe(self, role: str = "draft") -> Recipe:
        with self.home.sessions() as db:
            return recipe_of(db, find_job(db, 1), role)

    def send(self, role: str, values: Any, status: int = 200) -> dict[str, Any]:
        body = values if isinstance(values, bytes) else json.dumps(values).encode()
        href = f"/api/jobs/1/recipes/{role}/file?name=x.json"
        answer = self.client.post(href, content=body)
        self.assertEqual(answer.status_code, status, answer.text)
        found: dict[str, Any] = answer.json()
        return found

    def test_there_and_back(self) -> None:
        self.done("PUT", "/api/jobs/1/recipes/final", json={"bounces": 9, "noise": 0.03})
        text = self.client.get("/jobs/1/recipes/final.json").text
        before = self.recipe()
        self.assertEqual(self.send("draft", json.loads(text))["told"], [])
        self.assertEqual(self.recipe(), self.recipe("final"))
        self.done("POST", "/api/jobs/1/recipes/draft/undo")
        self.assertEqual(self.recipe(), before)

    def test_of_other_editions_and_damaged(self) -> None:
        """What is wrong is named, and the recipe stays; what is not known is told and left out."""
        before = self.recipe()
        for values, word in (
            ({"schema_version": 99}, "99"),
            ({"schema_version": 2, "samples": -4}, "Samples"),
            ({"schema_version": 2, "width": 10**9}, "Width"),
            ([1, 2], "no recipe"),
            (b"\xff\x00not json", "no recipe"),
            (b"[" * 100_000, "no recipe"),
        ):
            self.assertIn(word, self.send("draft", values, 422)["error"])
        self.assertEqual(self.recipe(), before)
        told = self.send(
            "draft",
            {
                "schema_version": 2,
                "bounces": 5,
                "sparkle": 1,
                "environment_picture": f"{'0' * 64}/16x8/x.hdr",
            },
        )["told"]
        self.assertEqual(len(told), 2)
        self.assertEqual((self.recipe().bounces, self.recipe().environment_picture), (5, ""))
        self.send("other", {}, 404)
        # One of the first edition, with names of then.
        self.send("draft", {"samples": 7, "min_samples": 2, "sky_picture": ""})
        self.assertEqual(self.recipe().samples, 7)


class TestShelf(WebCase):
    recipe = TestRecipeFiles.recipe

    def kept(self) -> list[tuple[int, str]]:
        with self.home.sessions() as db:
            return [(r.id, r.name) for r in shelf.kept(db, find_job(db, 1))]

    def test_a_line_of_a_kept_one_is_taken_over(self) -> None:
        """That field alone; what does not go with the others is refused, and undone is undone."""
        other = {"bounces": 7, "samples": 9, "min_samples": 3, "light_scales": {"lamp": 0.5}}
        self.done("PUT", "/api/jobs/1/recipes/draft", json=other)
        self.done("POST", "/api/jobs/1/recipes/draft/keep", json={"name": "dawn"})
        [(number, _)] = self.kept()
        back = {"bounces": 2, "samples": 40, "min_samples": 20, "light_scales": {"sky": 0.0}}
        self.done("PUT", "/api/jobs/1/recipes/draft", json=back)
        before = self.recipe()
        use = f"/api/jobs/1/kept/{number}/use"
        page = self.page("/jobs/1/trials").select(f'form[action="{use}"] button[name=part]')
        named = sorted(str(button["value"]) for button in page)  # each once
        self.assertEqual(named, ["bounces", "light_scales", "min_samples", "samples"])
        self.done("POST", use, json={"role": "draft", "part": "bounces"})
        self.assertEqual(self.recipe(), before.model_copy(update={"bounces": 7}))
        self.done("POST", use, json={"role": "draft", "part": "light_scales"})
        self.assertEqual(self.recipe().light_scales, {"lamp": 0.5})
        self.refused("POST", use, json={"role": "draft", "part": "samples"})  # 9 below 20
        self.assertEqual(self.recipe().samples, 40)
        self.done("POST", "/api/jobs/1/recipes/draft/undo", json={})
        self.assertEqual(self.recipe().light_scales, {"sky": 0.0})
        for odd in ("", "schema_version", "__class__", "x" * 81):
            answer = self.client.post(use, json={"role": "final", "part": odd})
            self.assertEqual(answer.status_code, {0: 200, 81: 422}.get(len(odd), 404), odd)

    def test_kept_used_renamed_removed(self) -> None:
        self.done("PUT", "/api/jobs/1/recipes/draft", json={"bounces": 7, "samples": 9})
        self.done("POST", "/api/jobs/1/recipes/draft/keep", json={"name": " night \n light "})
        [(number, name)] = self.kept()
        self.assertEqual(name, "night light")
        self.done("PUT", "/api/jobs/1/recipes/draft", json={"bounces": 1})
        for station in ("trials", "finish"):
            page = self.page(f"/jobs/1/{station}")
            field = page.select("input[name=name]")[0]
            self.assertEqual(field["value"], name)
        self.assertIn("bounces 1 → 7", self.page("/jobs/1/trials").get_text())
        at = f"/api/jobs/1/kept/{number}"
        self.done("POST", f"{at}/use", json={"role": "draft"})
        self.assertEqual((self.recipe().bounces, self.recipe().samples), (7, 9))
        self.done("POST", "/api/jobs/1/recipes/draft/undo")
        self.assertEqual(self.recipe().bounces, 1)
        before = self.recipe("final")
        self.done("POST", f"{at}/use", json={"role": "final"})
        self.assertEqual(self.recipe("final").bounces, 7)
        self.done("POST", "/api/jobs/1/recipes/final/undo")
        self.assertEqual(self.recipe("final"), before)
        self.done("PUT", f"{at}/name", json={"name": "dusk"})
        self.assertEqual(self.kept(), [(number, "dusk")])
        go = self.done("DELETE", at)["go"]
        self.assertEqual(self.kept(), [])
        self.assertIn("“dusk” was removed", self.page(f"/jobs/1/trials{go}").get_text())
        self.done("POST", f"{at}/restore")
        self.assertEqual(self.kept(), [(number, "dusk")])

    def test_names_that_are_none(self) -> None:
        keep = "/api/jobs/1/recipes/final/keep"
        for name in ("", "  \n ", "\x00\x07"):
            self.refused("POST", keep, json={"name": name})
        self.done("POST", keep, json={"name": "x" * 10_000})
        self.done("POST", keep, json={"name": "<b>&amp;</b>"})
        self.assertEqual([len(name) for _, name in self.kept()], [12, 80])
        self.assertIn("&lt;b&gt;", self.client.get("/jobs/1/trials").text)
        self.assertEqual(self.client.delete("/api/jobs/1/kept/999").status_code, 404)
        with self.home.sessions() as db:
            draft = chosen_recipe(db, find_job(db, 1), "draft").id
        self.refused("DELETE", f"/api/jobs/1/kept/{draft}", 404)  # the draft itself stays
