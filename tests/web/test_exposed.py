"""Exposure and equal brightness, for looking only: from the light that is in the files."""

from __future__ import annotations

import io
import math
from typing import Any

import numpy as np
from PIL import Image

from mill_lane.core.formats.exr import read_exr
from mill_lane.core.image.maps import Show, from_grey, ramp
from mill_lane.core.image.srgb import view
from mill_lane.core.render.display import MADE, Display
from mill_lane.core.render.layers import exr_names
from mill_lane.jobs.exposed import MOST, stops_apart, within
from mill_lane.jobs.live import layers
from mill_lane.store.models import Render
from tests.homes import do_tasks
from tests.web.case import WebCase


class TestExposed(WebCase):
    def pixels(self, address: str) -> Any:
        answer = self.client.get(address)
        self.assertEqual((answer.status_code, answer.headers["content-type"]), (200, "image/png"))
        return np.asarray(Image.open(io.BytesIO(answer.content)).convert("RGB"), int)

    def test_what_was_clipped_comes_back(self) -> None:
        """IEC 61966-2-1: the code of linear light, after so many stops."""
        trial = self.ended_trial()
        light = read_exr(self.home.files.path(trial.exr or ""), exr_names())["beauty"]
        own = self.pixels(f"/files/{trial.picture}.png")
        at = f"/trials/{trial.id}/exposed.png"
        np.testing.assert_array_equal(self.pixels(f"{at}?stops=0"), own)
        for stops in (-4.0, 2.5):
            x = np.clip(light * 2.0**stops, 0, 1)
            code = np.where(x <= 0.0031308, 12.92 * x, 1.055 * x ** (1 / 2.4) - 0.055)
            self.assertLessEqual(abs(self.pixels(f"{at}?stops={stops}") - 255 * code).max(), 0.51)
        bright = own == 255
        self.assertTrue(bright.any())
        self.assertLess(self.pixels(f"{at}?stops={-MOST}")[bright].min(), 255)
        for odd in ("nan", "inf", "1e9"):
            self.pixels(f"{at}?stops={odd}")
        self.assertEqual(self.client.get("/trials/99/exposed.png").status_code, 404)

    def test_layers_too(self) -> None:
        """Light by its kind and colours are shown brighter; a map that says its own ends is not."""
        trial = self.ended_trial()
        planes = read_exr(self.home.files.path(trial.exr or ""), exr_names())
        at = f"/trials/{trial.id}/exposed.png?stops=2&layer="
        for layer in ("albedo", "direct_diffuse"):
            np.testing.assert_array_equal(self.pixels(at + layer), view(planes[layer], 2.0))
        np.testing.assert_array_equal(self.pixels(at + "roughness"), ramp(4 * planes["roughness"]))
        light = planes["direct_diffuse"] + planes["indirect_diffuse"]
        bare = view(light / np.maximum(planes["albedo"], 0.02), 2.0)
        self.assertLessEqual(abs(self.pixels(at + "diffuse_light") - bare).max(), 1)
        page = self.page("/jobs/1/trials?b=1&layer=diffuse_light")
        self.assertIn("layer=diffuse_light", str(page.select_one("image-viewer")))
        for layer in ("depth", "object", "none", "light lamp"):
            self.assertEqual(self.client.get(at + layer).status_code, 404, layer)
        page = self.page("/jobs/1/trials?b=1&layer=roughness&stops=2")
        viewer = page.select_one("image-viewer")
        assert viewer is not None
        self.assertIn("stops=2&layer=roughness", str(viewer["data-b"]))
        self.assertIsNotNone(page.select_one("[aria-label='Scale from 0 to 0.25 ']"))
        # What it has not kept is no scale beside its picture.
        with self.home.sessions.begin() as db:
            row = db.get_one(Render, trial.id)
            row.layers = {k: v for k, v in row.layers.items() if k != "roughness"}
        page = self.page("/jobs/1/trials?b=1&layer=roughness&stops=2")
        self.assertIn(
            "stops=2&layer=beauty", str(page.select_one("image-viewer")).replace("amp;", "")
        )
        self.assertIsNone(page.select_one("[aria-label^='Scale from']"))
        page = self.page("/jobs/1/trials?b=1&layer=depth&stops=2")
        self.assertIsNone(page.select_one("[data-param=stops]"))

    def test_a_picture_from_outside(self) -> None:
        """One entry: it is offered, drawn of a trial, and of the look."""
        red = Display(
            "red",
            "red alone",
            Show("map", most=2.0),
            (),
            ("beauty",),
            lambda of: of["beauty"][..., 0],
        )
        MADE.add(red)
        self.addCleanup(MADE.remove, "red")
        trial = self.ended_trial()
        plane = read_exr(self.home.files.path(trial.exr or ""), exr_names())["beauty"][..., 0]
        at = f"/trials/{trial.id}/exposed.png?layer=red&stops=1"
        np.testing.assert_array_equal(self.pixels(at), ramp(plane))
        page = self.page("/jobs/1/trials?b=1&layer=red&stops=1")
        self.assertIn("red alone", page.get_text())
        self.assertIsNotNone(page.select_one("[aria-label='Scale from 0 to 1 ']"))
        self.assertIn(("red", "red alone"), layers())

    def test_two_that_differ_in_light_are_made_equal(self) -> None:
        first, second = self.ended_trial(bounces=0), self.ended_trial(bounces=4)
        apart = stops_apart(first, second)
        assert apart is not None
        self.assertGreater(apart, 0)
        ratio = 2.0**apart
        means = [t.measured["mean_luminance"] for t in (first, second) if t.measured]
        self.assertAlmostEqual(ratio, means[1] / means[0], places=9)
        page = self.page("/jobs/1/trials?a=1&b=2")
        self.assertIn(f"{ratio:.3g} × as bright", " ".join(page.get_text().split()))
        viewer = self.page("/jobs/1/trials?a=1&b=2&level=1&stops=-1").select_one("image-viewer")
        assert viewer is not None
        self.assertIn(f"{first.id}/exposed.png?stops={apart - 1:.4g}", str(viewer["data-a"]))
        self.assertIn(f"{second.id}/exposed.png?stops=-1", str(viewer["data-b"]))
        equal = self.page("/jobs/1/trials?a=1&b=1").get_text()
        self.assertNotIn("× as bright", equal)

    def test_only_the_same_part_of_the_frame_is_compared(self) -> None:
        """At any size: brightness of another place says nothing."""
        crop = {"crop": "0.25,0.25,0.75,0.75"}
        whole, part, larger = self.ended_trial(), self.ended_trial(**crop, bounces=0), None
        larger = self.ended_trial(**crop, bounces=4, width=128, height=72)
        self.assertIsNone(stops_apart(whole, part))
        self.assertIsNotNone(stops_apart(part, larger))
        self.assertIsNone(stops_apart(part, None))
        larger.measured = {"mean_luminance": 0.0}
        self.assertIsNone(stops_apart(part, larger))
        self.assertEqual([within(x) for x in (math.nan, math.inf, 99.0, -2.0)], [0, 0, MOST, -2])

    def test_false_colour(self) -> None:
        """Mid-grey, 0.18 (common practice), is the middle of the scale; a stop is a twelfth."""
        grey = np.full((1, 1, 3), 0.18, np.float32)
        for factor, stops in ((1.0, 0.0), (2.0, 1.0), (0.25, -2.0)):
            self.assertAlmostEqual(float(from_grey(grey * factor)[0, 0]), stops, places=5)
        self.assertLess(float(from_grey(grey * 0)[0, 0]), -50)
        trial = self.ended_trial()
        light = read_exr(self.home.files.path(trial.exr or ""), exr_names())["beauty"]
        shown = self.pixels(f"/trials/{trial.id}/exposed.png?layer=stops&stops=1")
        luma = np.maximum(light @ np.array([0.2126, 0.7152, 0.0722]), 1e-9)
        np.testing.assert_array_equal(shown, ramp((np.log2(luma / 0.18) + 7) / 12))
        page = self.page("/jobs/1/trials?b=1&layer=stops&stops=1")
        self.assertIn("stops from mid-grey", page.get_text())
        viewer = page.select_one("image-viewer")
        assert viewer is not None
        self.assertIn("exposed.png?stops=1&layer=stops", str(viewer["data-b"]))

    def test_a_clean_picture_too(self) -> None:
        trial = self.ended_trial(layers=["albedo", "normal", "half_buffers", "variance"])
        self.done("POST", f"/api/trials/{trial.id}/denoise", json={})
        do_tasks(self.home, "denoise")
        dark, own = (
            self.pixels(f"/trials/{trial.id}/denoised.png?stops={s}").mean() for s in (-3, 0)
        )
        self.assertLess(dark, own)
        page = self.page(f"/jobs/1/trials?b={trial.number}&layer=denoised&stops=-3")
        viewer = page.select_one("image-viewer")
        assert viewer is not None
        self.assertIn("denoised.png?", str(viewer["data-b"]))
        self.assertIn("stops=-3", str(viewer["data-b"]))
