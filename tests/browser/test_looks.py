"""The first look at a scene: shown, selected in, through another camera, one put up by hand."""

from __future__ import annotations

from pathlib import Path

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.support.select import Select

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.scene.model import Camera, Node
from mill_lane.demo import shapes
from tests.browser.case import BrowserCase
from tests.scenes import WHITE, floor, looking, scene_of


def two_cameras(folder: Path) -> Path:
    """A ball on a floor, seen from before and from above."""
    scene = scene_of((floor(4.0), WHITE), (shapes.ball(0.6, 24), WHITE), eye=(0, 1.5, 5))
    above = Node("above", matrix=looking((0, 6, 0.01), (0, 0, 0)), camera=1)
    made = type(scene)(
        **{
            **scene.__dict__,
            "cameras": (*scene.cameras, Camera("above", 0.7)),
            "nodes": (*scene.nodes, above),
        }
    )
    path = folder / "ball.glb"
    write_glb(made, path)
    return path


class TestLooks(BrowserCase):
    def drawn(self) -> str:
        """Which picture the look shows; empty while there is none."""
        found = self.driver.find_elements(By.CSS_SELECTOR, "first-look[drawn]")
        return str(found[0].get_attribute("data-picture")) if found else ""

    def chosen(self) -> str:
        found = self.driver.find_elements(By.CSS_SELECTOR, "tbody a[aria-current]")
        return found[0].text.strip() if found else ""

    def looked_at_now(self) -> None:
        """The Scene page's look sharpens when it is asked to, in the first look's place."""

        def pixels() -> str:
            script = "return document.querySelector('first-look').canvas.toDataURL()"
            return str(self.driver.execute_script(script))

        def going() -> int:
            return len(
                self.rows("select 1 from tasks where kind = 'live_look' and state = 'running'")
            )

        before = pixels()
        self.press("Look now")
        shown = "return Alpine.$data(document.querySelector('[x-data=scenelook]')).samples >= 1"
        self.until(lambda: self.driver.execute_script(shown))
        sharper = pixels()
        self.assertNotEqual(sharper, before)
        self.axe("scene looked at now")
        self.press("Look now")
        script = "return Boolean(document.querySelector('first-look').running)"
        self.assertFalse(self.driver.execute_script(script))
        self.assertNotEqual(pixels(), sharper)
        self.until(lambda: not going(), 30, "for it to stop")

    def test_a_variant_that_the_file_has_not(self) -> None:
        path = two_cameras(self.downloads)
        self.visit("/")
        self.press_summary("Variants and payloads")
        self.fill("choose", "burnt")
        self.find("#pick").send_keys(str(path))
        self.says("has no variant “burnt”", "It has: none", seconds=60)

    def test_a_file_is_seen_at_once(self) -> None:
        path = two_cameras(self.downloads)
        self.visit("/")
        self.find("#pick").send_keys(str(path))
        self.until(lambda: "/jobs/" in self.driver.current_url, 30, "for the job")
        self.says("triangles", seconds=120)
        self.until(self.drawn, 240, "for the first look")
        self.axe("scene with its first look")
        # A click selects what is there; what is chosen in the table is outlined.
        look = self.find("first-look")
        ActionChains(self.driver).move_to_element(look).click().perform()
        self.until(lambda: "mesh=" in self.driver.current_url, 20, "for the selection")
        self.says("mesh 1")
        self.driver.find_elements(By.CSS_SELECTOR, "tbody a[data-row]")[0].click()
        self.until(lambda: self.attribute("first-look", "data-mesh") != "-1")
        self.looked_at_now()
        # Behind the trials as long as there is none, and among the jobs.
        job = self.driver.current_url.split("/scene")[0]
        self.driver.get(f"{job}/trials")
        self.until(lambda: "look.png" in self.viewer("under"), 20, "for it behind the trials")
        self.visit("/")
        self.until(lambda: self.driver.find_elements(By.CSS_SELECTOR, "img[src*='look.png']"))
        # Another camera, from any page.
        self.driver.get(f"{job}/scene")
        before = self.until(self.drawn, 20)
        Select(self.find("select[name='name']")).select_by_visible_text("above")
        self.until(lambda: self.drawn() not in ("", before), 120, "for the other camera's look")
        # One put up by hand is a new version of the scene, and is looked through.
        self.press_summary("Put up a camera")
        self.fill("name", "Corner", "form[action$='/cameras']")
        self.press("Put it up")
        self.says("scene version 2", seconds=120)
        self.says("Corner")
        self.until(self.drawn, 240, "for its look")
