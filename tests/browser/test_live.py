"""The look that runs, by hand: it sharpens, begins anew, is held, frozen and compared."""

from __future__ import annotations

import time

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.case import BrowserCase

# Brightness at some places of the picture.
PIXELS = """
    const canvas = document.querySelector("image-viewer canvas");
    const { width, height } = canvas;
    const { data } = canvas.getContext("2d").getImageData(0, 0, width, height);
    const at = (x, y) => data[4 * (Math.round(y * height) * width + Math.round(x * width)) + 1];
    const places = [0.3, 0.4, 0.45, 0.55, 0.6, 0.7];
    return places.flatMap((x) => places.map((y) => at(x, y)));
"""
LOOK = "Alpine.$data(document.querySelector('[x-data=livelook]'))"
SAMPLES = f"return {LOOK}.samples"
# The first answer of what the lines say comes after all others.
LATE_WORDS = """
    const real = window.fetch;
    let first = true;
    window.fetch = async (href, ...more) => {
        const late = String(href).endsWith("/words") && first;
        if (late) first = false;
        const answer = await real(href, ...more);
        if (late) {
            await new Promise((done) => setTimeout(done, 2000));
            window.lateIsThere = true;
        }
        return answer;
    };
"""
# The card becomes another element, as where something new stands before it.
MADE_ANEW = """
    const card = document.querySelector("[x-data=recipecard]");
    card.replaceWith(card.cloneNode(true));
"""
DRAWN_ANEW = """
    document.addEventListener("drawn-anew", () => { window.drawnAnew = true; });
    window.dispatchEvent(new PopStateEvent("popstate"));
"""


class TestLiveLook(BrowserCase):
    look = 32

    def shown(self) -> float:
        return float(self.driver.execute_script(SAMPLES))

    def begun_anew(self) -> None:
        """What is shown counts from the beginning."""
        self.driver.execute_script(f"{LOOK}.samples = 99")
        self.until(lambda: 0 < self.shown() < 90, 60, "for a first picture")

    def leave(self, name: str) -> None:
        """Go on from a field; once more where the page is drawn anew meanwhile."""

        def tab() -> bool:
            self.find(f"[name={name}]").send_keys(Keys.TAB)
            return True

        self.until(tab, 20, f"to leave {name}")

    def size(self, *sides: int | None) -> None:
        for name, side in zip(("width", "height"), sides, strict=True):
            if side is not None:
                self.fill(name, side)
                self.leave(name)

    def test_the_line_of_work(self) -> None:
        self.visit("/jobs/1/trials")
        self.until(lambda: self.shown() > 0, 120, "for the look to begin by itself")
        # A smaller picture, typed into its line; the line says it before anything is kept.
        self.fill("width", 160)
        self.fill("height", 90)
        self.says("160 × 90, ")
        self.until(lambda: self.shown() >= 1, 60, "for a whole sample")
        canvas = self.find("image-viewer canvas")
        chain = ActionChains(self.driver).move_to_element_with_offset(canvas, -120, -80)
        chain.click_and_hold().move_by_offset(200, 130).release().perform()
        self.until(lambda: "crop=" in self.driver.current_url)
        self.begun_anew()
        self.until(lambda: self.shown() >= 2, 60, "for two samples of the crop")
        # Frozen, it is a trial; the look goes on.
        self.press("Freeze")
        self.until(
            lambda: "samples a pixel" in self.find("[aria-label='Trial book']").text,
            120,
            "for the trial",
        )
        self.until(lambda: self.shown() >= 2, 60)
        # One setting is changed, and the two are compared by the wipe.
        self.driver.find_element(By.CSS_SELECTOR, ".half.left").click()
        self.until(lambda: "a=1" in self.driver.current_url and self.viewer("a"))
        self.fill("bounces", 0)
        self.says("no bounces")
        self.begun_anew()
        # Put back by one act, once it is kept as something else.
        self.press("Hold")
        self.says("held")
        self.driver.refresh()
        self.until(lambda: self.driver.execute_script("return Boolean(window.Alpine)"), 20)
        self.assertIn("crop=", self.driver.current_url)
        self.press("Look now")
        self.until(lambda: self.shown() > 0, 60, "for it to go on after a reload")
        self.press("Look now")
        self.until(lambda: "Freeze" not in self.find("[data-job]").text)
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])

    def test_two_trials_by_keys(self) -> None:
        """Wipe, side by side, in turns, difference, 1:1 and help, without the mouse."""
        self.trials_page()
        small = {"width": 160, "height": 90, "samples": 2, "min_samples": 1}
        a, b = (self.finished_trial(**small, bounces=bounces) for bounces in (0, 2))
        self.visit(f"/jobs/1/trials?a={a}&b={b}")
        self.until(lambda: self.viewer("a") and self.viewer("b"))
        seen: dict[str, list[int]] = {}
        body = self.driver.find_element(By.TAG_NAME, "body")
        for key in ("w", "s", "d", "t"):
            body.send_keys(key)
            time.sleep(0.4)
            seen[key] = self.driver.execute_script(PIXELS)
        self.assertEqual(len({tuple(p) for p in seen.values()}), 4)
        # For looking only: darker, and both as bright as each other.
        body.send_keys("w")
        before = self.driver.execute_script(PIXELS)
        stops = self.find("[data-param=stops]")
        stops.clear()
        stops.send_keys("-3", Keys.TAB)
        self.until(lambda: "stops=-3" in self.driver.current_url)
        self.until(lambda: sum(self.driver.execute_script(PIXELS)) < 0.7 * sum(before))
        self.says("× as bright")
        right = self.viewer("b")
        self.find("[data-param=level] option[value='1']").click()
        self.until(lambda: "level=1" in self.driver.current_url and self.viewer("a"))
        self.until(lambda: "stops=-3" not in self.viewer("a"))
        self.assertEqual(self.viewer("b"), right)
        self.axe("Trials, two trials made equally bright")
        # A third in a row with them: chosen in its row, found again by the address.
        third = self.finished_trial(**small, bounces=1)
        self.visit(f"/jobs/1/trials?a={a}&b={b}")
        self.until(lambda: self.viewer_holds("a", "b"))
        row = "[aria-label='Trial book'] a[title^='In a row']"
        self.click(row)
        self.until(lambda: f"also={third}" in self.driver.current_url)
        self.until(lambda: self.viewer_holds("a", "b", "c"))
        panels = "return document.querySelector('image-viewer').panels"
        self.until(lambda: self.driver.execute_script(panels) == 3)
        chosen = self.find("[data-compare]")
        self.assertEqual(chosen.get_attribute("value"), "beside")
        self.click(f"{row}[aria-current]")
        self.until(lambda: self.driver.execute_script(panels) == 2)
        body = self.driver.find_element(By.TAG_NAME, "body")
        body.send_keys("z")
        self.until(lambda: self.attribute("[data-zoom='1']", "aria-pressed") == "true")
        body.send_keys("f")
        body.send_keys("?")
        self.says("Freeze what you see", "what is between them")
        body.send_keys(Keys.ESCAPE)
        self.until(lambda: "what is between them" not in self.text())
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])

    def test_a_card_under_way(self) -> None:
        """Late answers and a card that is made anew leave what is typed, found and locked."""
        self.visit("/jobs/1/trials")
        self.driver.execute_script(LATE_WORDS)
        said = "[data-line=bounces] [data-said]"
        self.fill("bounces", 7)
        time.sleep(0.5)  # the first is asked for
        self.fill("bounces", 9)
        self.until(lambda: "9 bounces" in self.driver.page_source)
        self.until(lambda: self.driver.execute_script("return window.lateIsThere"))
        time.sleep(0.2)
        words = self.driver.execute_script(f"return document.querySelector('{said}').textContent")
        self.assertIn("9 bounces", words)
        self.fill("width", 960)
        self.leave("width")
        self.click("[data-lock]")
        self.find("[aria-label='Find a setting']").send_keys("width")
        self.driver.execute_script(MADE_ANEW)
        self.until(lambda: self.attribute("[aria-label='Find a setting']", "value") == "width")
        self.until(lambda: not self.find("[data-line=bounces]").is_displayed())
        self.size(800, 600)  # free: the lock is still open
        self.assertEqual(self.attribute("[name=width]", "value"), "800")
        self.click("[data-lock]")
        # By small numbers and back: nothing is lost to whole pixels.
        self.size(10, None)
        self.size(640, None)
        self.until(lambda: self.attribute("[name=height]", "value") == "480")
        # Another size by a button is another shape.
        self.press("½")
        self.until(lambda: self.attribute("[name=width]", "value") == "960")
        self.size(640, None)
        self.until(lambda: self.attribute("[name=height]", "value") == "360")
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])

    def test_the_card(self) -> None:
        """Settings are found by a word of the trade; what is not as usual is put back."""
        self.visit("/jobs/1/finish")
        self.assertNotIn("Samples, at least", self.text())
        search = self.find("[aria-label='Find a setting']")
        search.send_keys("fireflies")
        self.until(lambda: self.find("[name=radiance_limit_indirect]").is_displayed())
        self.assertFalse(self.find("[data-line=size]").is_displayed())
        search.clear()
        search.send_keys("xyz")
        self.says("No setting of that name")
        # The page comes anew from the server while one searches: what was found stays.
        self.driver.execute_script(DRAWN_ANEW)
        self.until(lambda: self.driver.execute_script("return window.drawnAnew"))
        self.says("No setting of that name")
        search.clear()
        search.send_keys(" ")
        self.until(lambda: self.find("[data-line=size]").is_displayed())
        self.fill("bounces", 7)
        self.press_summary("Size")
        self.says("7 bounces", "usually 4")
        self.press("Put back Bounces")
        self.says("4 bounces")
        # 640 wide at 4:3 has 480 rows, not 481; 720 x 486 of pixels 0.9 wide is 720 x 540 of
        # square ones (common practice).
        self.click("[data-lock]")
        self.size(800, 600)
        self.click("[data-lock]")
        self.size(640, None)
        self.until(lambda: self.attribute("[name=height]", "value") == "480")
        self.click("[data-lock]")
        self.size(720, 486)
        aspect = self.find("[data-aspect]")
        aspect.clear()
        aspect.send_keys("0.9")
        self.press("make square")
        self.says("720 × 540")
        # One lamp by itself, in one act.
        self.fill("light:lamp_02", 0.5)
        self.click("[data-only='light:lamp_02']")
        self.says("27 lights, 26 off")
        self.assertEqual(self.attribute("[name='light:lamp_02']", "value"), "0.5")
        self.press("All as they are")
        self.until(lambda: "26 off" not in self.text())
        # What is wrong in a line that is shut opens it.
        self.fill("samples", 0)
        self.press_summary("Samples")
        self.fill("width", 1280)
        self.find("[name=width]").send_keys(Keys.TAB)
        self.until(lambda: self.find("[name=samples]").is_displayed())
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])
