"""The whole pass as an artist goes through it, from the demo page to the downloaded GLB."""

from __future__ import annotations

import time
from typing import ClassVar

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By

from mill_lane.core.formats.exr import read_exr
from mill_lane.core.formats.gltf import read_scene
from tests.browser.case import BrowserCase
from tests.gltf_tools import validate
from tests.thorough import thorough


@thorough
class TestStory(BrowserCase):
    """Each step has a test of its own beside it, on a home that is prepared."""

    demo: ClassVar[str | None] = "medium"  # from nothing; smaller textures leave nothing to trim

    def marked(self) -> str:
        """The crop of the viewer, once it is the one in the address: either may be first."""
        crop = self.viewer("crop")
        return crop if f"crop={crop.replace(',', '%2C')}" in self.driver.current_url else ""

    def test_the_whole_pass(self) -> None:
        self.visit("/")
        self.says("Village bakery, dawn shot")
        self.axe("the jobs while one is built")
        self.ready()
        self.press("Village bakery, dawn shot")

        # Scene: tables, plan, selection in the address.
        self.says(
            "triangles, 52 textures, 26 lights", "51 meshes are copies of 7, 2 of them turned"
        )
        self.axe("Scene")
        self.press("oven", "tbody")
        self.until(lambda: "mesh=" in self.driver.current_url)
        self.says("positions and acceleration")
        self.driver.find_element(By.PARTIAL_LINK_TEXT, "Textures").click()
        self.says("used for", "bark_normal")
        self.driver.back()
        self.says("positions and acceleration")

        # Machine: make the card so small that the scene does not fit.
        self.find("body").send_keys("3")
        self.says("Needs ")
        needed = self.amount(r"Needs ([\d.]+) GB")
        self.find("body").send_keys("2")
        self.says("This computer, as found")
        self.axe("Machine")
        self.driver.find_elements(By.PARTIAL_LINK_TEXT, "Change")[1].click()
        self.until(lambda: self.driver.find_elements(By.NAME, "desktop_gb"))
        self.fill("memory_gb", f"{needed + 0.95:.2f}", "td")
        self.press("Keep")
        self.until(lambda: "over" in self.figure("fit"))

        # Fit: why.
        self.visit("/jobs/1/fit")
        self.says("It would fail while")
        self.axe("Fit")

        # Trials: a look at the whole, then a crop dragged over the picture.
        self.visit("/jobs/1/trials")
        self.says("The trial book is empty")
        for name, value in (("width", 160), ("height", 90), ("samples", 3), ("min_samples", 1)):
            self.fill(name, value, "#trial")
        self.press("Whole view")
        self.until(lambda: self.figure("trials") == "1 kept", 180, "for the first trial")
        self.until(lambda: self.viewer_holds("under"))
        canvas = self.find("image-viewer canvas")
        chain = ActionChains(self.driver).move_to_element_with_offset(canvas, -60, -40)
        chain.click_and_hold().move_by_offset(140, 90).release().perform()
        region = self.until(self.marked, 60, "for the crop in the address")
        self.assertEqual(len(region.split(",")), 4)
        self.fill("samples", 4, "#trial")
        self.press("Run trial")
        self.until(lambda: self.figure("trials") == "2 kept", 90, "for the second trial")
        self.fill("bounces", 1, "#trial")
        self.press("Run trial")
        self.until(lambda: self.figure("trials") == "3 kept", 90, "for the third trial")
        self.says("bounces 2 → 1", "samples 3 → 4, other crop")
        # A new trial is compared with the one before it at once; two of them by wipe at 1:1.
        self.until(lambda: "a=2" in self.driver.current_url)
        self.until(lambda: self.viewer_holds("a", "b"))
        self.press("1:1")
        self.assertAlmostEqual(
            self.driver.execute_script("return document.querySelector('image-viewer').scale"), 1.0
        )
        before = self.driver.execute_script("return document.querySelector('image-viewer').line")
        self.driver.execute_script(
            "const r = document.querySelector('input[type=range]'); r.value = 80;"
            "r.dispatchEvent(new Event('input', {bubbles: true}))"
        )
        after = self.driver.execute_script("return document.querySelector('image-viewer').line")
        self.assertGreater(after, before)
        self.find("input[name='note']").send_keys("less grain, darker jars\n")
        self.until(
            lambda: self.attribute("input[name='note']", "value") == "less grain, darker jars"
        )
        self.axe("Trials")
        link = self.driver.current_url
        self.driver.get(link)
        self.until(lambda: self.viewer_holds("a", "b"))
        self.says("Time against noise")

        # Trim: stage all, exclude one, apply; Fit changes everywhere at once.
        self.visit("/jobs/1/trim")
        self.axe("Trim")
        self.visit("/jobs/1/trim?trim=texture_size")
        self.press("Stage all")
        self.until(lambda: "staged" in self.figure("trim"))
        staged = int(self.figure("trim").split()[0])
        self.click("tbody input[type=checkbox][aria-label='Stage leaf_colour']")
        self.until(lambda: self.figure("trim") == f"{staged - 1} staged")
        self.press("Apply: new scene version")
        self.until(lambda: "scene version 2" in self.text().replace("\n", " "), 120, "for the trim")
        self.until(lambda: "left" in self.figure("fit"), 20, "for Fit to move")
        self.says(f"{staged - 1} textures made smaller")
        self.visit("/jobs/1/fit")
        self.says("It fits, with")

        # Finish: the frame with the final recipe.
        self.visit("/jobs/1/finish")
        for name, value in (("width", 128), ("height", 72), ("min_samples", 2), ("samples", 3)):
            self.fill(name, value, "form[data-method=PUT]")
            self.driver.execute_script("document.activeElement.blur()")
            time.sleep(0.4)
        self.axe("Finish")
        self.press("Render the frame")
        self.until(lambda: self.figure("finish") == "frame 1 done", 120, "for the frame")
        for label in ("EXR, linear", "PNG, to look at", "Download the scene (GLB)"):
            self.press(label)
        wanted = {"frame 0001.exr", "frame 0001.png", "Village bakery_ dawn shot v2.glb"}
        self.until(
            lambda: wanted <= {p.name for p in self.downloads.iterdir()}, 30, "for the downloads"
        )
        beauty = read_exr(self.downloads / "frame 0001.exr")["beauty"]
        self.assertEqual(beauty.shape, (72, 128, 3))
        self.assertGreater(float(beauty.mean()), 0.01)
        scene = self.downloads / "Village bakery_ dawn shot v2.glb"
        self.assertEqual(validate(scene)["numErrors"], 0)
        sizes = {i.name: i.width for i in read_scene(scene).images}
        self.assertEqual(
            (sizes["leaf_colour"], sizes["facade_colour"], sizes["counter_colour"]),
            (2048, 512, 2048),
        )

        # The old version is still there.
        self.visit("/jobs/1/trim")
        self.click("form[action$='/version'] button")
        self.until(
            lambda: "scene version 1" in self.text().replace("\n", " "), 20, "for the old version"
        )
        self.assertRegex(self.figure("trim"), "^[0-9]+ to look at$")
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])
