"""What goes wrong, as the artist meets it:

broken files, stopped work, a killed server; and the keyboard.
"""

from __future__ import annotations

import urllib.request

from selenium.webdriver.common.keys import Keys

from tests.browser.case import BrowserCase
from tests.gltf_tools import glb, triangle
from tests.scenes import small_demo

PAGE = "/static/app/page.js"


class TestTroubles(BrowserCase):
    def upload(self, name: str, data: bytes) -> None:
        path = self.folder / name
        path.write_bytes(data)
        self.find("#pick").send_keys(str(path))

    def test_broken_files(self) -> None:
        self.ready()
        self.upload("empty.glb", b"")
        self.says("empty.glb” is empty (0 bytes)", "Nothing was imported")
        self.says("Export the scene again")
        self.upload("holiday.txt", b"hello")
        self.says("is not a scene file that is read")
        # It is told until the next try, whatever else happens to the page.
        self.driver.execute_script(f"return import('{PAGE}').then((page) => page.refresh())")
        self.says("is not a scene file that is read")
        self.upload("cut.glb", small_demo().read_bytes()[:100_000])
        # The page goes to the job of a file at once: there it is told what is wrong with it.
        self.says("could not be opened", "cut short", "Copy or export it again.")
        self.axe("a job whose scene is broken")
        self.visit("/")
        self.says("cut short")
        self.axe("the jobs with a broken one")
        # The server is still up, and a good scene still opens, with a camera and a light added.
        self.upload("bare.glb", glb(*triangle()))
        self.says("one was added that frames all of it", "a default light was added")

    def test_several_at_once(self) -> None:
        """Of several files each is a link once it was sent, and one that is none is told."""
        self.ready()
        paths = [self.folder / f"part {k}.glb" for k in range(2)] + [self.folder / "notes.txt"]
        for path in paths:
            path.write_bytes(glb(*triangle()))
        self.find("#pick").send_keys("\n".join(map(str, paths)))
        self.says("Opened: part 0.glb", "Opened: part 1.glb", "is not a scene file that is read")
        self.press("part 1.glb")
        self.until(lambda: self.driver.current_url.endswith("/scene"))
        self.says("part 1")

    def test_put_away_and_back(self) -> None:
        self.ready()
        self.click("form[action='/api/jobs/1'] button")
        self.says("was put away")
        self.press("Put it back")
        self.until(lambda: "was put away" not in self.text())

    def test_stop_a_trial_and_keep_it(self) -> None:
        self.trials_page()
        before = self.kept()
        self.trial(width=320, height=180, samples=4000)
        # The picture sharpens while it renders.
        self.until(lambda: "preview.png" in self.viewer("live"), 90, "for a preview")
        first = self.viewer("live")
        self.until(lambda: self.viewer("live") != first, 30, "for a newer preview")
        self.until(lambda: "sample 1 " not in self.find(".tools").text, 60, "for a whole pass")
        self.press("Stop")
        self.says("stopped by hand", seconds=60)
        self.assertEqual(self.kept(), before + 1)
        # Taken out, and put back.
        button = self.find("form[action^='/api/trials/'][data-method='DELETE'] button")
        button.click()
        self.says("was taken out")
        self.press("Put it back")
        self.until(lambda: self.kept() == before + 1)

    def test_a_killed_server_loses_nothing(self) -> None:
        self.trials_page()
        kept = self.kept()
        self.trial(width=320, height=180, samples=30)
        self.until(lambda: "preview.png" in self.viewer("live"), 90, "for a preview")
        self.server.kill()
        self.server.start()
        self.visit("/jobs/1/trials")
        self.until(lambda: self.kept() == kept + 1, 180, "for the interrupted trial to go on")

    def test_keyboard(self) -> None:
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
        self.assertEqual(self.attribute("#trial [name=min_samples]", "value"), "9")

    def test_everything_comes_from_here(self) -> None:
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
