"""A range of frames as a person renders it: sheet, checks, watched, stopped, gone on with."""

from __future__ import annotations

from selenium.webdriver.common.by import By

from tests.browser.case import BrowserCase


class TestNights(BrowserCase):
    def set(self, css: str, value: str) -> None:
        """Write into a field of the sheet, as if it was left then."""
        script = """
            const [field, value] = arguments;
            field.value = value;
            field.dispatchEvent(new Event("change", { bubbles: true }));
        """
        self.driver.execute_script(script, self.find(css), value)

    def steps_in_their_order(self) -> None:
        """Steps for less memory: one is put before the one above, another is ticked; what is ticked
        is the same when the server has drawn them in their new order.
        """

        def names() -> list[str]:
            boxes = self.driver.find_elements(By.CSS_SELECTOR, "input[name='rungs']:checked")
            return [str(b.get_attribute("value")) for b in boxes]

        before = names()
        button = self.find(f"tr:has(input[value='{before[1]}']) button")
        self.driver.execute_script("arguments[0].click()", button)
        self.until(lambda: names()[:2] == [before[1], before[0]], 20, "for the other order")
        parts = self.find("input[name='rungs'][value='parts']")
        self.driver.execute_script("arguments[0].click()", parts)
        want = [before[1], before[0], *before[2:], "parts"]
        drawn = "tr:has(input[value='parts']) button"
        self.until(lambda: self.find(drawn), 20, "for the server's own order")
        self.assertEqual(names(), want)

    def plays(self) -> None:
        """The film strip moves on when it is played, and by its steps."""

        def at() -> str:
            return self.find("film-strip [data-at]").text

        first = at()
        self.press("Play")
        self.until(lambda: at() != first, 10, "for the next frame")
        self.press("Stop")
        seen = [at()]
        for step in (-1, 1):  # one of them leads nowhere at an end
            self.click(f"film-strip [data-step='{step}']")
            seen.append(at())
        self.assertGreater(len(set(seen)), 1)

    def dark_frame(self) -> None:
        """With every light out a frame is black: it is marked as it comes."""
        lamps = [f"lamp_{n:02d}" for n in range(1, 25)]
        out = dict.fromkeys((*lamps, "oven_mouth", "bare_bulb", "sky"), 0.0)
        self.put("/api/jobs/1/recipes/final", {"light_scales": out})
        self.visit("/jobs/1/finish/night")
        self.set("#sheet-frames", "1")
        self.set("#sheet-name", "dark/shot.#")
        self.says("of the lights are off", "dark/shot.1.exr")
        self.click("input[name='read']")
        self.press("Render the frames")
        self.says("Look at these", "it is black", seconds=120)
        self.axe("Finish, a frame that is marked")

    def test_a_night(self) -> None:
        self.trials_page()
        self.put("/api/jobs/1/device", {"device": 1})
        small = {"width": 192, "height": 108, "samples": 6, "min_samples": 2}
        self.put("/api/jobs/1/recipes/final", small)
        self.visit("/jobs/1/finish")
        self.press("A range of frames")
        self.says("No run yet", "Before the next one starts", "GB free")
        self.set("#sheet-frames", "5-1")
        self.says("has no frames")
        self.set("#sheet-frames", "1-6")
        self.says("for 6 frames")
        self.set("#sheet-name", "night/shot.###")
        self.says("night/shot.001.exr, night/shot.001.png")
        self.axe("Finish, the run sheet")
        self.says("needs more in the files: two pictures of half the samples")
        self.press("keep them")
        self.says("all that denoising later needs")
        self.steps_in_their_order()
        self.press("Render the frames")
        self.says("not ticked off")
        self.press("Rehearse")
        self.says("Rehearsal 1", seconds=120)
        self.until(lambda: "5 of 5 frames" not in self.text(), 240, "for more beside the heaviest")
        self.says("from a rehearsal", "Heaviest found", seconds=240)
        self.until(lambda: self.find("film-strip"), 240, "for the film strip")
        self.plays()
        self.until(lambda: "going on" not in self.text(), 240, "for the end of the rehearsal")
        # What was warned of before the rehearsal may be in order after it.
        for box in self.driver.find_elements(By.CSS_SELECTOR, "input[name='read']"):
            box.click()
        self.press("Render the frames")
        self.says("Run 2", "The frame that is rendered")
        thumbnails = "img[alt^='Frame ']"
        self.until(lambda: self.driver.find_elements(By.CSS_SELECTOR, thumbnails), 240, "for one")
        self.axe("Finish, a run going on")
        self.press("Stop now")
        self.until(lambda: "stopped" in self.text() and "going on" not in self.text(), 60)
        done = len(list((self.server.home / "frames/night").glob("*.exr")))
        self.assertLess(done, 6)
        self.press("Go on")
        self.says("6 of 6 frames", seconds=240)
        names = sorted(p.name for p in (self.server.home / "frames/night").glob("*.exr"))
        self.assertEqual(names, [f"shot.{n:03d}.exr" for n in range(1, 7)])
        self.click("a[href*='frame=2']")
        self.says("frame 1", "frame 2")
        self.assertEqual(
            [e.text for e in self.driver.find_elements(By.CSS_SELECTOR, ".tag")],
            ["frame 1", "frame 2"],
        )
        self.axe("Finish, a frame against the one before")
        self.press("Render it again")
        self.until(lambda: "5 of 6 frames" in self.text() or "going on" in self.text(), 30)
        self.says("6 of 6 frames", seconds=240)
        self.dark_frame()
        self.press("Report")
        self.says("How it was rendered", "Frame 1: it is black", "as it was opened")
        self.axe("Finish, the report")
        expected = ("422", "favicon")
        said = [c for c in self.complaints() if not any(x in c for x in expected)]
        self.assertEqual(said, [])
