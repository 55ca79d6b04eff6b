"""Noise taken out as a person does it: a trial, what was lost, how few samples hold, a frame."""

from __future__ import annotations

import time

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webelement import WebElement

from mill_lane.core.formats.exr import write_exr
from mill_lane.core.render.layers import exr_names
from tests.browser.case import BrowserCase
from tests.core.test_denoise import noisy


class TestDenoising(BrowserCase):
    def quiet(self) -> None:
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])

    def all_of(self, css: str) -> list[WebElement]:
        return list(self.driver.find_elements(By.CSS_SELECTOR, css))

    def is_clean(self) -> bool | None:
        """Whether the running trial is shown denoised, as its worker tells."""
        return (self.live_task().get("live") or {}).get("clean")

    def asked_for(self, wanted: bool) -> bool:
        """Whether it is shown so; pressed once more where the page was drawn anew meanwhile."""
        if self.is_clean() is not wanted:
            self.press("Clean on the way")
            end = time.monotonic() + 5
            while self.is_clean() is not wanted and time.monotonic() < end:
                time.sleep(0.25)
        return self.is_clean() is wanted

    def test_raw_against_clean(self) -> None:
        self.trials_page()
        self.addCleanup(self.stop_trials)
        number = self.finished_trial(width=160, height=90, samples=8, min_samples=4)
        self.press("Denoise")
        self.press(f"Denoise trial {number}")
        self.until(lambda: "light +" in self.text() or "light -" in self.text(), 180, "for it")
        self.says("Detail lost beyond the noise")
        self.axe("Trials, one denoised")
        self.press("denoised")
        self.until(lambda: "layer=denoised" in self.driver.current_url)
        self.says("Wipe", "raw", "clean", "Of the clean")
        start = float(self.attribute("#strength", "value") or -1)
        self.assertIn(f"{100 * start:.0f} %", self.text())
        viewer = self.find("image-viewer")
        self.assertNotEqual(viewer.get_attribute("data-a"), viewer.get_attribute("data-b"))
        shown = self.driver.find_element(By.CSS_SELECTOR, "select[data-param='layer']")
        self.assertEqual(shown.get_attribute("value"), "denoised")
        self.axe("Trials, raw wiped against clean")
        # Strength and place are in the address, and nothing is computed anew.
        slide = "const s = arguments[0]; s.value = 1; s.dispatchEvent(new Event('change'))"
        slide = slide.replace("= 1", "= 0.35")
        self.driver.execute_script(slide, self.find("#strength"))
        self.until(lambda: "strength=0.35" in self.driver.current_url)
        self.says("35 %")
        choose = "const s = arguments[0]; s.value = 'dark'; s.dispatchEvent(new Event('change'))"
        self.driver.execute_script(choose, self.find("#mask"))
        self.until(lambda: "mask=dark" in self.driver.current_url)
        self.until(lambda: "strength=0.35&mask=dark" in self.viewer("b"), 20, "for the blend")
        places = self.all_of("[data-place]")
        for place in places[:1]:
            crop = place.get_attribute("data-place")
            place.click()
            self.assertEqual(self.attribute("image-viewer", "data-crop"), crop)
        self.quiet()

    def across(self, steps: int = 4) -> None:
        """Drag over the middle of the picture."""
        viewer = self.find("image-viewer canvas")
        drag = ActionChains(self.driver).move_to_element_with_offset(viewer, -60, 0)
        drag.click_and_hold()
        for _ in range(steps):
            drag.move_by_offset(30, 4)
        drag.release().perform()

    def test_masks_by_hand(self) -> None:
        """A stroke of the brush, taken back; an object that is pointed at."""
        self.trials_page()
        self.addCleanup(self.stop_trials)
        number = self.finished_trial(width=160, height=90, samples=4, min_samples=4)
        self.visit(f"/jobs/1/trials?b={number}&panel=denoise")
        self.press(f"Denoise trial {number}")
        self.until(lambda: "light +" in self.text() or "light -" in self.text(), 180, "for it")
        address = f"/jobs/1/trials?b={number}&panel=denoise&layer=denoised"
        self.visit(f"{address}&mask=picture")
        self.until(lambda: self.viewer_holds("b"), 20, "for the picture")
        self.says("Nothing is painted yet")
        self.press("Paint")
        self.axe("Trials, a mask painted")
        self.across()
        self.until(lambda: "painted=" in self.viewer("b"), 20, "for the stroke")
        one = self.viewer("mask")
        self.press("Take off")
        self.across(2)
        self.until(lambda: self.viewer("mask") not in ("", one), 20, "for what was taken off")
        self.press("Undo")
        self.until(lambda: self.viewer("mask") == one, 20, "for the one of before")
        self.press("Clear")
        self.says("Nothing is painted yet")
        self.visit(f"{address}&mask=objects")
        self.until(lambda: self.viewer_holds("b"), 20, "for the picture")
        self.press("Pick in the picture")
        viewer = self.find("image-viewer canvas")
        ActionChains(self.driver).move_to_element(viewer).click().perform()
        self.until(lambda: "objects=" in self.driver.current_url, 20, "for the object")
        self.says("by number:")
        self.axe("Trials, objects picked")
        button = self.all_of("button[data-number]")[-1]
        chosen = str(button.get_attribute("data-number"))
        button.click()
        self.until(lambda: chosen in self.driver.current_url.split("objects=")[-1])
        self.quiet()

    def test_clean_on_the_way(self) -> None:
        """A running trial is shown denoised, and as it is again; the render stays as it is."""
        self.trials_page()
        self.addCleanup(self.stop_trials)
        self.trial(width=160, height=90, samples=4000, min_samples=4000)
        self.until(lambda: self.viewer("live"), 120, "for a preview")
        for wanted in (True, False):
            self.until(lambda w=wanted: self.asked_for(w), 60, "for the worker to hear")
            pressed = f"button[name='clean'][aria-pressed='{str(wanted).lower()}']"
            self.until(lambda css=pressed: self.all_of(css), 20, "for the button")
        self.axe("Trials, one running")
        self.quiet()

    def test_how_few_samples_hold(self) -> None:
        self.trials_page()
        # Whatever the answer is, the recipe has something else.
        many = {"width": 160, "height": 90, "samples": 4000, "min_samples": 16}
        self.put("/api/jobs/1/recipes/final", many)
        self.visit("/jobs/1/trials?panel=denoise&crop=0.25,0.25,0.65,0.75")
        self.says("How few samples hold", "two renders with seeds of their own")
        self.fill("target", 30)
        self.press("Find in the crop")
        self.until(lambda: "predicted from the pilot" in self.text(), 240, "for the pilot")
        self.axe("Trials, how few samples hold")
        curves = "svg[aria-label^='Error'] path"
        self.until(lambda: len(self.all_of(curves)) == 2, 20, "for two curves")
        button = "form[data-method='PUT'] button.main"
        label = self.until(lambda: self.find(button).text, 20, "for the button")
        self.press(label)
        self.says("The final recipe has them")
        self.visit("/jobs/1/finish")
        self.assertEqual(self.attribute("input[name='samples']", "value"), label.split()[1])
        self.quiet()

    def test_a_folder_of_files(self) -> None:
        """Found, looked into, a layer chosen by hand, denoised in one go."""
        frames = self.server.home / "frames"
        frames.mkdir()
        layers, _ = noisy(0.08)
        kept = {k: layers[k] for k in ("beauty", "albedo", "normal")}
        names = exr_names() | {"albedo": ("paint.R", "paint.G", "paint.B")}
        for n in (1, 2, 4):
            write_exr(frames / f"shot.{n:04d}.exr", kept, names=names)
        self.trials_page()
        self.visit("/jobs/1/finish")
        self.press("Denoise files")
        self.says("shot.####.exr", "1 frame missing: 3", "no albedo: textures")
        self.axe("Finish, files")
        choose = "const s = arguments[0]; s.value = 'paint'; s.dispatchEvent(new Event('change'))"
        self.driver.execute_script(choose, self.find("select[name='albedo']"))
        self.until(lambda: "no albedo" not in self.text(), 20, "for the albedo")
        self.press("Denoise the files")
        self.says("3 of 3 written as denoised/shot.####.exr", seconds=120)
        self.assertEqual(len(list((frames / "denoised").glob("*.exr"))), 3)
        self.press("Denoise the files")
        self.says("is there already")
        self.axe("Finish, files denoised")
        self.assertEqual(
            [c for c in self.complaints() if "422" not in c and "favicon" not in c], []
        )

    def test_a_frame(self) -> None:
        self.trials_page()
        self.put("/api/jobs/1/device", {"device": 1})
        small = {"width": 96, "height": 54, "samples": 2, "min_samples": 1}
        self.put("/api/jobs/1/recipes/final", small)
        self.visit("/jobs/1/finish")
        self.press("Render the frame")
        self.until(lambda: "Denoise the frame" in self.text(), 240, "for the frame")
        self.press("Denoise the frame")
        self.until(lambda: "EXR, denoised" in self.text(), 120, "for the clean one")
        self.press("denoised")
        self.until(lambda: "layer=denoised" in self.driver.current_url)
        clean = "img[alt='Frame 1, denoised']"
        self.until(lambda: self.all_of(clean), 20, "for it")
        self.axe("Finish, a frame denoised")
        self.quiet()
