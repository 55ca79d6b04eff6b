"""What weighing in full tells, and what it is good for:

classes, shading, scrubbing, what-ifs, profiles, another format.
"""

from __future__ import annotations

import zipfile

from selenium.webdriver.common.by import By
from selenium.webdriver.support.select import Select

from tests.browser.case import BrowserCase


class TestWeighing(BrowserCase):
    def setUp(self) -> None:
        self.ready()
        # Listed at once; looked at behind the page, which follows without a reload.
        self.press("Village bakery, dawn shot")
        text = "have more texels than the shot can show"
        self.until(lambda: text in self.text(), 240, "for the scene to be looked at")
        self.until(lambda: "Weighing in full" not in self.text(), 120, "for it to be lit")

    def shades(self) -> set[str]:
        return {
            str(e.get_attribute("class"))
            for e in self.driver.find_elements(By.CSS_SELECTOR, "svg a polygon")
        }

    def test_the_scene_as_it_is_looked_at(self) -> None:
        self.says("Small and strong: bare_bulb", "rays from")
        self.axe("Scene, weighed in full")
        self.press("in reflection")
        self.until(
            lambda: (
                "q=in+reflection" in self.driver.current_url
                or "q=in%20reflection" in self.driver.current_url
            )
        )
        self.until(
            lambda: "store_shelving" in self.text() and "counter" not in self.find("tbody").text
        )
        self.driver.find_element(By.PARTIAL_LINK_TEXT, "Stored and not used").click()
        self.until(lambda: "q=unused+bits" in self.driver.current_url)
        self.until(
            lambda: "bark_normal" in self.text() and "rye_colour" not in self.find("tbody").text
        )
        self.says("3×16 3×8")
        self.driver.find_element(By.PARTIAL_LINK_TEXT, "Lights").click()
        self.says("of the light", "small and strong")
        self.driver.find_element(By.PARTIAL_LINK_TEXT, "Transparency").click()
        self.says("Set transparent layers to", "mean free path", "flour dust")
        self.until(
            lambda: (
                self.driver.execute_script(
                    "return document.querySelector('figure img').naturalWidth"
                )
                > 0
            )
        )
        self.axe("Transparency")

    def test_the_plan_shaded_and_scrubbed(self) -> None:
        self.visit("/jobs/1/scene")
        before = self.shades()
        Select(self.find("select[data-param='shade']")).select_by_visible_text("seen or not")
        self.until(lambda: "shade=seen" in self.driver.current_url)
        self.until(lambda: self.shades() != before)
        self.says("lights only")
        wedge = self.attribute("[data-wedge]", "points")
        slide = "const r = document.querySelector('input[type=range]'); r.value = 60;"
        self.driver.execute_script(slide + "r.dispatchEvent(new Event('input', {bubbles: true}))")
        # The camera goes along at once, before the server is asked.
        self.assertNotEqual(self.attribute("[data-wedge]", "points"), wedge)
        self.assertEqual(self.find("output").text, "60")
        self.driver.execute_script(
            "document.querySelector('input[type=range]').dispatchEvent(new Event('change', "
            "{bubbles: true}))"
        )
        self.until(lambda: "frame=60" in self.driver.current_url)
        moved = self.attribute("[data-wedge]", "points")
        self.driver.refresh()
        self.until(lambda: self.attribute("[data-wedge]", "points") == moved)
        self.press("counter", "tbody")
        self.says("fills most in frame", "positions and acceleration")
        self.assertIn("shade=seen", self.driver.current_url)
        self.assertIn("frame=60", self.driver.current_url)

    def test_what_if(self) -> None:
        self.visit("/jobs/1/fit")
        head = self.find("h1").text
        tile = self.find("[data-field='tile']")
        tile.send_keys("64")
        self.until(lambda: "tile=64" in self.driver.current_url)
        self.until(lambda: "4,096 samples in flight" in self.text())
        tiled = self.amount(r"Together\s+([\d.]+)")
        self.click("[data-layer='normal']")
        self.until(
            lambda: (
                "layers=" in self.driver.current_url and self.amount(r"Together\s+([\d.]+)") < tiled
            )
        )
        less = self.find("h1").text
        self.visit(self.driver.current_url.removeprefix(self.server.base))
        self.until(lambda: self.find("h1").text == less)
        self.axe("Fit with what-ifs")
        lend = self.find("[data-field='lend']")
        self.driver.execute_script("arguments[0].select()", lend)
        lend.send_keys("2")
        self.says("2.00 GB of it lent")
        self.press("Back to the final set")
        self.until(lambda: self.find("h1").text == head)

    def test_another_renderer(self) -> None:
        self.visit("/jobs/1/machine")
        self.fill("name", "Studio renderer", "form[action$='profiles']")
        self.press("Begin a profile")
        self.says("None yet.", "A trial of this scene")
        for width, peak in ((1920, 2.4), (960, 2.1)):
            self.fill("width", width, "form[action$='trials']")
            self.fill("peak_gb", peak, "form[action$='trials']")
            self.fill("note", f"{width} px", "form[action$='trials']")
            self.press("Log it")
            self.says(f"{width} px")
        self.press("Fit to 2 trials")
        self.says("left open by the trials")
        self.until(lambda: self.text().count("0.0 %") == 2)
        self.axe("A memory profile")
        self.visit("/jobs/1/fit")
        Select(self.find("[data-field='profile']")).select_by_visible_text("Studio renderer")
        self.says("Studio renderer needs")
        # What was logged had no other layers, and nothing in flight; the card has 66 MB of samples.
        self.visit(self.driver.current_url.removeprefix(self.server.base) + "&layers=")
        self.says("Studio renderer needs 2.47 GB")

    def test_out_as_obj(self) -> None:
        self.visit("/jobs/1/trim?rule=footprint")
        self.says("Texture size:", "By the texels that camera rays need")
        self.press("Write OBJ")
        self.press("Version 1 as OBJ")
        saved = self.until(lambda: next(self.downloads.glob("*.zip"), None), 30, "for the OBJ")
        self.until(lambda: zipfile.is_zipfile(saved))
        with zipfile.ZipFile(saved) as z:
            self.assertIn("scene.obj", z.namelist())
        self.says("OBJ knows no copies")
        self.axe("Trim, by what the shot shows")
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])
