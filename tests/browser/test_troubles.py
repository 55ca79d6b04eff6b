"""What goes wrong, as the artist meets it:

broken files, stopped work, a killed server; and the keyboard.
"""

from __future__ import annotations

import urllib.request
from pathlib import Path

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.case import BrowserCase
from tests.gltf_tools import glb, triangle
from tests.scenes import small_demo


class TestTroubles(BrowserCase):
    def ready(self) -> None:
        self.visit("/")
        self.until(
            lambda: self.driver.find_elements(By.LINK_TEXT, "Village bakery, dawn shot"),
            240,
            "for the demo scene",
        )

    def upload(self, name: str, data: bytes) -> None:
        path = Path(self.server.keep.name) / name
        path.write_bytes(data)
        self.find("#pick").send_keys(str(path))

    def test_1_broken_files(self) -> None:
        self.ready()
        self.upload("empty.glb", b"")
        self.says("empty.glb” is empty (0 bytes)", "Nothing was imported", "Export the scene again")
        self.upload("holiday.txt", b"hello")
        self.says("is not a scene file that is read")
        # It is told until the next try, whatever else happens to the page.
        self.driver.execute_script("return refresh()")
        self.says("is not a scene file that is read")
        self.upload("cut.glb", small_demo().read_bytes()[:100_000])
        self.says("cut short", "Copy or export it again.")
        self.axe("the jobs with a broken one")
        # The server is still up, and a good scene still opens, with a camera and a light added.
        self.upload("bare.glb", glb(*triangle()))
        self.until(
            lambda: self.driver.find_elements(By.LINK_TEXT, "bare"), 60, "for the bare scene"
        )
        self.press("bare")
        self.says("one was added that frames all of it", "an even grey sky was added")
        # Put away and back.
        self.visit("/")
        self.driver.find_elements(By.CSS_SELECTOR, "form[action='/api/jobs/2'] button")[0].click()
        self.says("was put away")
        self.press("Put it back")
        self.until(lambda: "was put away" not in self.text())

    def test_2_stop_a_trial_and_keep_it(self) -> None:
        self.ready()
        self.visit("/jobs/1/trials")
        for name, value in (("width", 320), ("height", 180), ("samples", 4000)):
            self.fill(name, value, "#trial")
        self.press("Whole view")
        # The picture sharpens while it renders.
        self.until(
            lambda: "preview.png" in (self.find("picture-well").get_attribute("data-live") or ""),
            90,
            "for a preview",
        )
        first = self.find("picture-well").get_attribute("data-live")
        self.until(
            lambda: self.find("picture-well").get_attribute("data-live") != first,
            30,
            "for a newer preview",
        )
        self.until(lambda: "sample 1 " not in self.find(".tools").text, 60, "for a whole pass")
        self.press("Stop")
        self.says("stopped by hand", seconds=60)
        self.assertEqual(self.figure("trials"), "1 kept")
        # Taken out, and put back.
        self.find("form[action='/api/trials/1'] button").click()
        self.says("Trial 1 was taken out")
        self.press("Put it back")
        self.until(lambda: self.figure("trials") == "1 kept")

    def test_3_a_killed_server_loses_nothing(self) -> None:
        self.ready()
        self.visit("/jobs/1/trials")
        kept = self.figure("trials")
        for name, value in (("width", 320), ("height", 180), ("samples", 60)):
            self.fill(name, value, "#trial")
        self.press("Whole view")
        self.until(
            lambda: "preview.png" in (self.find("picture-well").get_attribute("data-live") or ""),
            90,
            "for a preview",
        )
        self.server.kill()
        self.server.start()
        self.visit("/jobs/1/trials")
        self.assertIn(kept.split()[0], self.figure("trials"))
        number = int(kept.split()[0]) if kept[0].isdigit() else 0
        self.until(
            lambda: self.figure("trials") == f"{number + 1} kept",
            180,
            "for the interrupted trial to go on",
        )

    def test_4_keyboard(self) -> None:
        self.ready()
        self.visit("/jobs/1/scene")
        for key, station in (
            ("2", "machine"),
            ("3", "fit"),
            ("4", "trials"),
            ("5", "trim"),
            ("6", "finish"),
            ("1", "scene"),
        ):
            self.find("body").send_keys(key)
            self.until(lambda s=station: self.driver.current_url.endswith(s))
        first = self.find("tbody a[data-row]")
        first.send_keys(Keys.ENTER)
        self.until(lambda: "mesh=" in self.driver.current_url)
        was = self.driver.current_url
        self.driver.switch_to.active_element.send_keys(Keys.ARROW_DOWN)
        self.until(lambda: self.driver.current_url != was)
        # Typing a digit into a field does not leave the page.
        self.visit("/jobs/1/trials")
        self.fill("samples", 5, "#trial")
        self.assertTrue(self.driver.current_url.endswith("trials"))
        # A wrong value is told where it stands, and nothing is lost.
        self.fill("samples", 2, "#trial")
        self.fill("min_samples", 9, "#trial")
        self.press("Run trial")
        self.says("is above samples, at most")
        self.assertEqual(self.find("#trial [name=min_samples]").get_attribute("value"), "9")

    def test_5_everything_comes_from_here(self) -> None:
        """Fonts, styles and scripts are served by the application itself."""
        self.ready()
        self.visit("/jobs/1/scene")
        loaded = self.driver.execute_script(
            "return performance.getEntriesByType('resource').map((e) => e.name)"
        )
        self.assertTrue(loaded and all(x.startswith(self.server.base) for x in loaded), loaded)
        self.assertTrue(
            self.driver.execute_script("return document.fonts.check('14px \"Schibsted Grotesk\"')")
        )
        with urllib.request.urlopen(self.server.base + "/healthz") as answer:
            self.assertEqual(answer.status, 200)
