"""What a person does with a trial beyond looking at it:

layers and maps, where the time goes, pausing, pointing.
"""

from __future__ import annotations

import time
import urllib.request

import numpy as np
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.select import Select

from mill_lane.core.formats.pictures import write_pixels
from tests.browser.case import BrowserCase
from tests.scenes import write_sky


class TestTrialTools(BrowserCase):
    """On the small demo, whose trials take seconds; each begins without an open trial."""

    def setUp(self) -> None:
        self.trials_page()
        self.addCleanup(self.stop_trials)

    def endless_trial(self) -> None:
        """Begin a trial without an end, and wait until it has two samples."""
        self.click("#trial [name='endless']")
        self.trial(width=480, height=270, samples=40, min_samples=1)
        self.until(lambda: self.live_task().get("state") == "running", 60, "for the trial to run")
        self.says(", no end")
        self.until(lambda: self.samples_done() >= 2, 90, "for two samples")

    def choose_layer(self, title: str) -> None:
        Select(self.find("[data-param='layer']")).select_by_visible_text(title)

    def test_a_picture_made_elsewhere(self) -> None:
        """Into the book, told of, compared, marked, and its noise measured by a second render."""
        self.finished_trial(width=160, height=90, samples=4, min_samples=2)
        rng = np.random.default_rng(5)
        paths = [self.downloads / f"theirs {k}.png" for k in range(2)]
        for path in paths:
            write_pixels(path, rng.integers(90, 130, (90, 160, 3)).astype(np.uint8))
        self.find("[aria-label='Put a picture into the book']").send_keys(str(paths[0]))
        self.says("made elsewhere", "about")
        book = "[aria-label='Trial book']"
        self.fill("time", "3:20", book)
        self.driver.switch_to.active_element.send_keys(Keys.TAB)
        self.says("3:20 min")
        self.find("[aria-label='Noise by a second render']").send_keys(str(paths[1]))
        self.until(lambda: "about" not in self.find(f"{book} tr.chosen").text, 60, "for its noise")
        self.click(f"{book} tbody tr:nth-child(2) form[action$='/star'] button")
        self.until(lambda: "★" in self.find(book).text)
        self.click(f"{book} tbody tr:nth-child(2) .half.left")
        self.until(lambda: self.viewer("a") and self.viewer("b"))
        self.says("× as bright")
        self.axe("Trials, one made elsewhere beside one of ours")
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])

    def test_layers_maps_and_the_profile(self) -> None:
        self.finished_trial(width=160, height=90, samples=12, min_samples=4)
        beauty = self.until(lambda: self.viewer("b"))
        # A map, with its scale in real units.
        self.choose_layer("map: noise")
        self.until(lambda: "layer=noise" in self.driver.current_url)
        self.until(lambda: self.viewer("b") != beauty)
        self.assertIn("%", self.attribute("[aria-label^='Scale from']", "aria-label"))
        self.choose_layer("map: cost")
        self.until(
            lambda: "ms a pixel" in (self.attribute("[aria-label^='Scale from']", "aria-label"))
        )
        self.choose_layer("direct, diffuse")
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

    def test_pausing_and_going_on(self) -> None:
        first = self.finished_trial()
        self.endless_trial()
        self.press("Pause")
        self.until(lambda: self.live_task().get("state") == "paused", 40, "for it to pause")
        self.says("paused")
        kept = self.samples_done()
        time.sleep(1.0)
        self.assertEqual(self.samples_done(), kept)
        # A paused trial does not keep the worker busy: another one runs meanwhile.
        self.click("#trial [name='endless']")
        between = self.finished_trial()
        self.visit(f"/jobs/1/trials?b={first}")
        self.press("Go on")
        self.until(lambda: self.live_task().get("state") == "running", 40, "for it to go on")
        # Finished trials can be looked at meanwhile: what runs is not drawn over them.
        self.visit(f"/jobs/1/trials?a={first}&b={between}")
        self.assertTrue(self.viewer("a") and self.viewer("b"))
        self.assertFalse(self.viewer("live"))
        self.visit(f"/jobs/1/trials?b={between - 1}")
        self.until(lambda: "preview.png" in self.viewer("live"), 40, "for the running one")
        self.until(lambda: self.samples_done() > kept, 60, "for more samples")

    def test_saving_and_loading_a_session(self) -> None:
        """A paused trial as a file; loaded, it stands in the log as another one, paused at the same
        place.
        """
        self.endless_trial()
        self.press("Pause")
        self.until(lambda: self.live_task().get("state") == "paused", 40, "for it to pause")
        kept, before = self.samples_done(), self.kept()
        link = self.until(lambda: self.attribute("a[download][href$=session]", "href"))
        with urllib.request.urlopen(str(link), timeout=20) as answer:
            path = self.downloads / "mine.session"
            path.write_bytes(answer.read())
        self.find("[aria-label='Open a paused trial']").send_keys(str(path))
        note = "#main input[name=note]"
        told = "loaded from mine.session"
        self.until(lambda: self.find(note).get_attribute("value") == told, 30, "for the loaded one")
        self.assertEqual(len(self.open_tasks()), 2)
        self.press("Go on")
        self.until(
            lambda: float(self.open_tasks()[-1]["live"].get("samples") or 0) > kept,
            60,
            "for the loaded session to go on",
        )
        self.press("Stop")
        self.until(lambda: self.kept() == before + 1, 60, "for the loaded session to stop")

    def test_a_file_that_is_no_session(self) -> None:
        bad = self.downloads / "bad.session"
        bad.write_bytes(b"not a session")
        self.find("[aria-label='Open a paused trial']").send_keys(str(bad))
        self.says("is no saved session, or is damaged")
        self.assertTrue(all("bad.session" in c for c in self.complaints()))

    def test_look_here_first(self) -> None:
        """The pointer over the picture tells the running trial where to refine."""
        self.endless_trial()
        self.press("Look here first")
        canvas = self.find("image-viewer canvas")
        chain = ActionChains(self.driver).move_to_element_with_offset(canvas, 120, 60)
        chain.move_by_offset(4, 3).perform()
        place = self.until(lambda: self.live_task()["live"].get("priority"), 20, "for the point")
        self.assertTrue(240 < place[0] < 480 and 135 < place[1] < 270, place)

    def test_a_picture_as_the_sky(self) -> None:
        """Chosen under “Sky picture”, it stands in the recipe, lights the next trial, and can
        be taken out again.
        """
        chosen = (By.CSS_SELECTOR, "[data-sky='dawn.hdr']")
        self.finished_trial()
        sky = write_sky(self.downloads / "dawn.hdr", np.full((16, 32, 3), 3.0))
        self.press_summary("Sun and sky")
        self.find("[aria-label='Choose a picture']").send_keys(str(sky))
        self.until(lambda: self.driver.find_elements(*chosen))
        self.finished_trial()
        self.says("sky picture none → dawn.hdr")
        # Its group may be folded up by the page that came with the trial.
        out = self.find("[title='Back to the sky of before']")
        self.driver.execute_script("arguments[0].closest('details').open = true", out)
        out.click()
        self.until(lambda: not self.driver.find_elements(*chosen))

    def test_leaving_out_while_looking(self) -> None:
        self.finished_trial()
        self.press_summary("Leave out while looking")
        self.until(lambda: self.find("#trial [value='fog']").is_displayed())
        self.click("#trial [value='fog']")
        Select(self.find("#trial [name='view']")).select_by_visible_text("wireframe")
        self.finished_trial()
        self.says("no fog, wireframe")
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])
