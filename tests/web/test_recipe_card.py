"""The recipe's card: what its lines say, what is told as changed, and how it is put back."""

from __future__ import annotations

import unittest
from typing import Any

from mill_lane.core.recipe import DRAFT, FINAL, MOST_SAMPLES, Recipe
from mill_lane.jobs.lookup import (
    analysis_of,
    find_job,
    find_version,
    lights_by_trial,
    recipe_of,
)
from mill_lane.store.models import Render
from mill_lane.web.shared.format import percent
from mill_lane.web.shared.light_words import light_words
from mill_lane.web.shared.recipe_card import KINDS, card, usual_recipe
from mill_lane.web.shared.recipe_form import HELP, square
from mill_lane.web.stations.trials.log import ratios
from tests.web.case import SMALL, WebCase


class TestWords(WebCase):
    def lines(self, recipe: Recipe, **of_scene: Any) -> dict[str, Any]:
        with self.home.sessions() as db:
            job = find_job(db, 1)
            analysis = analysis_of(db, find_version(db, job)).model_copy(update=of_scene)
        return {x.name: x for x in card(recipe, analysis, FINAL, FINAL)}

    def test_sentences(self) -> None:
        for change, line, text in (
            ({}, "size", "1920 × 1080"),
            ({"width": 960, "height": 540}, "size", "960 × 540, half of the final size"),
            ({"width": 960, "height": 960}, "size", "960 × 960, another shape than the final"),
            ({"samples": 64}, "samples", "64 samples a pixel"),
            ({"noise": 0.02}, "samples", "at most 64 samples, at least 16; a pixel is left alone"),
            ({"noise": 0.02, "min_samples": 64}, "samples", "which never happens"),
            ({"samples": MOST_SAMPLES, "time_limit": 60.0}, "samples", "no end; 60 s at most"),
            ({"bounces": 1}, "bounces", "1 bounce, 16 transparent layers"),
            ({"bounces": 0}, "bounces", "no bounces"),
            ({"radiance_limit_indirect": 8.0, "caustics": False}, "clamps", "held at 8, no caus"),
            ({"light_scales": {"oven glow": 0.0}}, "lights", "lights"),
            ({"sun_elevation": 12.0}, "sky", "sun 12° up"),
            ({"sun_elevation": -3.0}, "sky", "sun 3° below the horizon"),
            ({"f_stop": 2.8, "focus_distance": 3.2}, "camera", "f/2.8, sharp at 3.2 m"),
            (
                {"denoise": "with", "exposure": 1.0},
                "after",
                "with each frame, exposure +1",
            ),
        ):
            found = self.lines(FINAL.model_copy(update=change))[line]
            self.assertIn(text, found.text)

    def test_what_a_light_gives_and_takes(self) -> None:
        """Light by weighing, time and grain by a trial; lamps of one name are one line."""
        with self.home.sessions() as db:
            analysis = analysis_of(db, find_version(db, find_job(db, 1)))
        lamps = [
            x.model_copy(update={"share": {"bare_bulb": 0.25}.get(x.name)}) for x in analysis.lights
        ]
        analysis = analysis.model_copy(update={"lights": lamps})
        self.assertEqual(light_words(analysis)["bare_bulb"], "25.0 % of the light")
        rows = [
            {"name": "bare_bulb", "share": 0.125, "noise": 0.5},
            {"name": "oven", "share": 0.0625, "noise": None},
            {"name": "far", "share": 0.0, "noise": 1e-5},
            {"name": "bare_bulb", "share": 0.125, "noise": -0.75},
        ]
        said = light_words(analysis, rows, 3)
        self.assertEqual(
            said["bare_bulb"],
            "25.0 % of the light; trial 3: 25.0 % of the time, -25.0 % of the grain",
        )
        self.assertEqual(said["oven"], "trial 3: 6.25 % of the time")
        least = "trial 3: under 0.1 % of the time, under 0.1 % of the grain"
        self.assertEqual(said["far"], least)
        lines = {x.name: x for x in card(FINAL, analysis, FINAL, FINAL, said)}
        helps = {f.label: f.help for f in lines["lights"].fields}
        self.assertEqual(helps["bare_bulb"], said["bare_bulb"])
        self.assertTrue(helps["Lights aimed at"].startswith("From each point"))

    def test_the_newest_that_tells_of_lights(self) -> None:
        first, second = self.ended_trial(), self.ended_trial(bounces=1)
        with self.home.sessions() as db:
            version = find_version(db, find_job(db, 1))
            rows, number = lights_by_trial(db, version)
        self.assertEqual(number, second.number)
        # What tells nothing of lights, as a picture made elsewhere, leaves it to the one before.
        with self.home.sessions.begin() as db:
            db.get_one(Render, first.id).time_profile = {"lights": rows}
            db.get_one(Render, second.id).time_profile = {}
            self.assertEqual(lights_by_trial(db, version), (rows, first.number))
            db.get_one(Render, first.id).removed = True
            self.assertEqual(lights_by_trial(db, version), ([], 0))
            db.get_one(Render, first.id).removed = False
        time = sum(r["share"] for r in rows if r["name"] == "bare_bulb")
        self.assertGreater(time, 0)
        page = self.page(f"/jobs/1/trials?b={first.number}")
        help_ = page.select_one("[id='h_light:bare_bulb']")
        assert help_ is not None
        told = f"trial {first.number}: {percent(time)} of the time"
        self.assertIn(told, help_.get_text())

    def test_only_what_matters_in_this_scene(self) -> None:
        """No fog: no fog fields; no glass: none for it; what is not as usual stands in any case."""
        names = {
            f.name for f in self.lines(FINAL, media=0, transparent_materials=0)["bounces"].fields
        }
        self.assertEqual({n for n in names if n.endswith(("volume", "transmission"))}, set())
        names = {f.name for f in self.lines(FINAL, media=1)["bounces"].fields}
        self.assertIn("bounces_volume", names)
        foggy = self.lines(FINAL.model_copy(update={"bounces_volume": 2}), media=0)["bounces"]
        self.assertEqual([f.name for f in foggy.changed], ["bounces_volume"])
        self.assertFalse(self.lines(FINAL)["splits"].stands)
        self.assertTrue(self.lines(FINAL.model_copy(update={"split_lights": 4}))["splits"].stands)

    def test_what_is_not_as_usual(self) -> None:
        line = self.lines(FINAL.model_copy(update={"samples": 620, "noise": 0.05}))["samples"]
        told = {f.name: (f.usual, f.usual_text) for f in line.changed}
        self.assertEqual(told, {"samples": ("64", "64"), "noise_percent": ("0", "0 %")})
        dim = self.lines(FINAL.model_copy(update={"light_scales": {"sky": 0.5}}))["lights"]
        self.assertEqual([(f.name, f.usual) for f in dim.changed], [("light:sky", "1")])
        self.assertEqual([x.name for x in self.lines(FINAL).values() if x.changed], [])

    def test_every_setting_has_a_line_and_a_sentence(self) -> None:
        named = {name for kind in KINDS for name in kind.fields}
        apart = {"schema_version", "camera", "light_scales"}  # chosen elsewhere, or field by field
        self.assertEqual(named, set(Recipe.model_fields) - apart)
        self.assertEqual(set(HELP), named)
        self.assertEqual(usual_recipe("draft"), DRAFT)

    def test_words_of_what_is_typed(self) -> None:
        """They are told before anything is kept."""
        typed = {"bounces": 0, "noise_percent": "5", "min_samples": 4}
        said = self.done("POST", "/api/jobs/1/recipes/draft/words", json=typed)["said"]
        assert isinstance(said, dict)
        self.assertIn("no bounces", said["bounces"])
        self.assertIn("left alone at 5", said["samples"])
        with self.home.sessions() as db:
            self.assertEqual(recipe_of(db, find_job(db, 1), "draft").bounces, DRAFT.bounces)
        self.refused("POST", "/api/jobs/1/recipes/draft/words", json={"bounces": -1})
        self.refused("POST", "/api/jobs/1/recipes/other/words", 404, json={})


class TestSquares(unittest.TestCase):
    def test_so_many_by_so_many(self) -> None:
        """620 samples are near 25 x 25 = 625, 64 are 8 x 8 (common practice)."""
        self.assertEqual(square(620), "near 25 × 25 = 625")
        self.assertEqual([square(n) for n in (64, 1, MOST_SAMPLES)], ["8 × 8", "", ""])
        for n in range(2, 2000):
            side = int(square(n).split(" × ")[0].removeprefix("near "))
            self.assertLessEqual(abs(side * side - n), side)  # no other square is nearer


class TestBook(WebCase):
    def recipe(self, role: str) -> Recipe:
        with self.home.sessions() as db:
            return recipe_of(db, find_job(db, 1), role)

    def test_settings_put_back_and_forth(self) -> None:
        first = self.ended_trial(bounces=3, crop="0.25,0,0.75,1", hide=["shadows"])
        self.ended_trial(bounces=0, noise_percent=10)
        self.assertEqual(self.recipe("draft").bounces, 0)
        before = self.recipe("final")
        settings = f"/api/trials/{first.id}/settings"
        go = str(self.done("POST", settings, json={"role": "draft"})["go"])
        self.assertIn("crop=0.25%2C0%2C0.75%2C1", go)
        self.assertIn("hide=shadows", go)
        after = self.recipe("draft")
        self.assertEqual((after.bounces, after.noise, after.width), (3, 0.0, 96))
        self.assertEqual(self.recipe("final"), before)
        page = self.page("/jobs/1/trials")
        self.assertIn("Settings were taken over from a trial", page.get_text())
        self.done("POST", "/api/jobs/1/recipes/draft/undo")
        self.assertEqual((self.recipe("draft").bounces, self.recipe("draft").noise), (0, 0.1))
        self.done("POST", "/api/jobs/1/recipes/draft/undo")
        self.assertEqual(self.recipe("draft"), after)
        self.refused("POST", "/api/jobs/1/recipes/final/undo")
        self.done("POST", settings, json={"role": "final"})
        final = self.recipe("final")
        self.assertEqual((final.bounces, final.layers), (3, before.layers))  # its layers stay

    def test_a_base_that_stays(self) -> None:
        base = self.ended_trial(bounces=0)
        self.ended_trial(bounces=2)
        self.ended_trial(bounces=2, seed=5)
        self.done("PUT", "/api/jobs/1/base", json={"base": base.number})
        page = self.page("/jobs/1/trials")
        rows = [" ".join(r.get_text(" ").split()) for r in page.select("tbody tr[title]")]
        self.assertIn("the base", rows[2])
        for row in rows[:2]:
            self.assertIn("bounces 0 → 2", row)  # against the base, not the one before
            self.assertRegex(row, r"× [\d.]+ .*× [\d.]+")
        self.assertIn("Told against trial 1", page.get_text(" "))
        label = page.find("label", attrs={"for": "f_bounces"})
        self.assertIn("changed", label["class"])  # type: ignore[index,operator]
        self.done("PUT", "/api/jobs/1/base", json={})
        self.assertNotIn("the base", self.page("/jobs/1/trials").get_text(" "))
        self.refused("PUT", "/api/jobs/1/base", 404, json={"base": 99})
        self.done("POST", "/api/jobs/1/trials", json=SMALL)
        self.refused("PUT", "/api/jobs/1/base", json={"base": 4})

    def test_ratios(self) -> None:
        base = {"seconds": 2.0, "noise": 0.1, "mean_luminance": 0.5}
        found = ratios({"seconds": 1.0, "noise": 0.2, "mean_luminance": 0.45}, base)
        self.assertEqual((found.time, found.noise, found.light), ("× 0.5", "× 2", "light × 0.9"))
        alike = ratios({"seconds": 2.0, "noise": None, "mean_luminance": 0.505}, base)
        self.assertEqual((alike.time, alike.noise, alike.light), ("× 1", "", ""))
