"""What a person does with a trial beyond looking at it:

layers and maps, where the time goes, pausing, pointing.
"""

from __future__ import annotations

import json
import time
import urllib.request
from typing import Any

import numpy as np
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.support.select import Select

from tests.browser.case import BrowserCase
from tests.scenes import write_sky


class TestTrialTools(BrowserCase):
    """One after another on the small demo, whose trials take seconds."""

    def open_trials(self) -> None:
        self.visit("/jobs/1/scene")
        self.until(lambda: "triangles" in self.text(), 240, "for the demo scene")
        self.visit("/jobs/1/trials")

    def settings(self, **values: object) -> None:
        for name, value in values.items():
            self.fill(name, value, "#trial")

    def open_tasks(self) -> list[dict[str, Any]]:
        """The trials that wait, run or are paused, as the server tells them."""
        with urllib.request.urlopen(f"{self.server.base}/events", timeout=10) as stream:
            for line in stream:
                if line.startswith(b"data: "):
                    return [t for t in json.loads(line[6:])["tasks"] if t["kind"] == "trial"]
        return []

    def live_task(self) -> dict[str, Any] | None:
        """The first of them."""
        return next(iter(self.open_tasks()), None)

    def test_1_layers_maps_and_the_profile(self) -> None:
        self.open_trials()
        self.settings(width=160, height=90, samples=12, min_samples=4)
        self.press("Whole view")
        self.until(lambda: self.figure("trials") == "1 kept", 240, "for the first trial")
        beauty = self.until(lambda: self.find("picture-well").get_attribute("data-b"))
        # A map, with its scale in real units.
        Select(self.find("[data-param='layer']")).select_by_visible_text("map: noise")
        self.until(lambda: "layer=noise" in self.driver.current_url)
        self.until(lambda: self.find("picture-well").get_attribute("data-b") != beauty)
        self.assertIn(
            "%", self.find("[aria-label^='Scale from']").get_attribute("aria-label") or ""
        )
        Select(self.find("[data-param='layer']")).select_by_visible_text("map: cost")
        self.until(
            lambda: (
                "ms a pixel"
                in (self.find("[aria-label^='Scale from']").get_attribute("aria-label") or "")
            )
        )
        Select(self.find("[data-param='layer']")).select_by_visible_text("direct, diffuse")
        self.until(
            lambda: not self.driver.find_elements(By.CSS_SELECTOR, "[aria-label^='Scale from']")
        )
        self.driver.back()
        self.until(lambda: "layer=work" in self.driver.current_url)
        self.until(
            lambda: (
                Select(self.find("[data-param='layer']")).first_selected_option.text == "map: cost"
            )
        )
        # Where the time goes.
        self.press("Where the time goes")
        self.says("of thread time by", "What if", "without the shading of")
        for division, words in (
            ("object", "counter"),
            ("light", "grain"),
            ("material", "plaster"),
            ("bounce", "light"),
        ):
            self.press(division)
            self.until(lambda d=division: f"division={d}" in self.driver.current_url)
            self.says(words)
        self.axe("Trials, the profile and a map")
        self.driver.get(self.driver.current_url)
        self.says("What if")

    def test_2_pausing_and_going_on(self) -> None:
        self.open_trials()
        self.settings(width=480, height=270, samples=40, min_samples=1)
        self.find("#trial [name='endless']").click()
        self.press("Whole view")
        self.until(
            lambda: (self.live_task() or {}).get("state") == "running", 60, "for the trial to run"
        )
        self.says(", no end")
        self.until(
            lambda: float(((self.live_task() or {}).get("live") or {}).get("samples") or 0) >= 2,
            90,
            "for two samples",
        )
        self.press("Pause")
        self.until(
            lambda: (self.live_task() or {}).get("state") == "paused", 40, "for the trial to pause"
        )
        self.says("paused")
        kept = float(self.live_task()["live"]["samples"])  # type: ignore[index]
        time.sleep(1.0)
        self.assertEqual(float(self.live_task()["live"]["samples"]), kept)  # type: ignore[index]
        # A paused trial does not keep the worker busy: another one runs meanwhile.
        self.find("#trial [name='endless']").click()
        self.settings(width=64, height=36, samples=2, min_samples=1)
        self.press("Whole view")
        self.until(lambda: self.figure("trials") == "2 kept", 90, "for the trial in between")
        self.check_saving_and_loading(kept)
        self.press("Go on")
        self.until(
            lambda: (self.live_task() or {}).get("state") == "running", 40, "for the trial to go on"
        )
        # Finished trials can be looked at meanwhile: what runs is not drawn over them.
        self.visit("/jobs/1/trials?a=1&b=3")
        well = self.find("picture-well")
        self.assertTrue(well.get_attribute("data-a") and well.get_attribute("data-b"))
        self.assertIsNone(well.get_attribute("data-live"))
        self.visit("/jobs/1/trials?b=2")
        self.until(
            lambda: "preview.png" in (self.find("picture-well").get_attribute("data-live") or ""),
            40,
            "for the running one",
        )
        self.until(
            lambda: float(((self.live_task() or {}).get("live") or {}).get("samples") or 0) > kept,
            60,
            "for more samples",
        )

    def check_saving_and_loading(self, kept: float) -> None:
        """The paused trial as a file; loaded, it stands in the book as another one, paused at the
        same place.
        """
        link = self.find("a[download]").get_attribute("href")
        with urllib.request.urlopen(str(link), timeout=20) as answer:
            path = self.downloads / "mine.session"
            path.write_bytes(answer.read())
        self.find("[aria-label='Load a session']").send_keys(str(path))
        self.until(lambda: "b=4" in self.driver.current_url, 30, "for the loaded session")
        self.until(
            lambda: (
                self.find("#main input[name=note]").get_attribute("value")
                == "loaded from mine.session"
            )
        )
        self.press("Go on")
        self.until(
            lambda: float(self.open_tasks()[-1]["live"].get("samples") or 0) > kept,
            60,
            "for the loaded session to go on",
        )
        self.press("Stop")
        self.until(lambda: self.figure("trials") == "3 kept", 60, "for the loaded session to stop")
        self.visit("/jobs/1/trials?b=1")
        bad = self.downloads / "bad.session"
        bad.write_bytes(b"not a session")
        self.find("[aria-label='Load a session']").send_keys(str(bad))
        self.says("is no saved session, or is damaged")
        self.assertTrue(all("bad.session" in c for c in self.complaints()))

    def test_3_look_here_first(self) -> None:
        """The pointer over the picture tells the running trial where to refine."""
        self.open_trials()
        task = self.live_task()
        assert task is not None
        self.press("Visibility here first")
        well = self.find("picture-well canvas")
        ActionChains(self.driver).move_to_element_with_offset(well, 120, 60).move_by_offset(
            4, 3
        ).perform()
        self.until(
            lambda: (self.live_task() or {}).get("live", {}).get("priority"),
            20,
            "for the point to arrive",
        )  # type: ignore[union-attr]
        x, y = self.live_task()["live"]["priority"]  # type: ignore[index]
        self.assertTrue(240 < x < 480 and 135 < y < 270, (x, y))
        self.press("Stop")
        self.until(lambda: self.live_task() is None, 60, "for the trial to stop")

    def test_5_a_picture_as_the_sky(self) -> None:
        """Chosen under “Sky picture”, it stands in the recipe, lights the next trial, and can be
        taken out again.
        """
        self.open_trials()
        sky = write_sky(self.downloads / "dawn.hdr", np.full((16, 32, 3), 3.0))
        self.find("[aria-label='Choose a picture']").send_keys(str(sky))
        self.until(
            lambda: self.driver.find_elements(
                By.CSS_SELECTOR, "[name='environment_picture'][value*='dawn.hdr']"
            )
        )
        self.settings(width=64, height=36, samples=2, min_samples=1)
        before = int(self.figure("trials").split()[0])
        self.press("Whole view")
        self.until(lambda: self.figure("trials") == f"{before + 1} kept", 90, "for the trial")
        self.says("sky picture none → dawn.hdr")
        self.find("[title='Back to the sky of before']").click()
        self.until(
            lambda: (
                not self.driver.find_elements(
                    By.CSS_SELECTOR, "[name='environment_picture'][value*='dawn.hdr']"
                )
            )
        )

    def test_4_leaving_out_while_looking(self) -> None:
        self.open_trials()
        self.settings(width=64, height=36, samples=2, min_samples=1)
        self.find("#trial details:last-of-type summary").click()
        self.until(lambda: self.find("#trial [value='fog']").is_displayed())
        self.find("#trial [value='fog']").click()
        Select(self.find("#trial [name='view']")).select_by_visible_text("wireframe")
        before = int(self.figure("trials").split()[0])
        self.press("Whole view")
        self.until(lambda: self.figure("trials") == f"{before + 1} kept", 90, "for the trial")
        self.says("no fog, wireframe")
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])
