"""Trimming as a person does it: looked at, set otherwise, applied, undone, compared, taken home."""

from __future__ import annotations

import zipfile

from selenium.common.exceptions import WebDriverException
from selenium.webdriver.common.by import By

from tests.browser.case import BrowserCase


class TestTrimming(BrowserCase):
    def staged(self) -> str:
        return self.figure("trim")

    def clicked(self, what: str, by: str = By.CSS_SELECTOR) -> bool:
        """Click what can be clicked; the page may be changing just now."""
        try:
            for e in self.driver.find_elements(by, what):
                if e.is_displayed():
                    e.click()
                    return True
        except WebDriverException:
            return False
        return False

    def test_a_proposal_from_look_to_home(self) -> None:
        self.ready()
        self.press("Village bakery, dawn shot")
        self.until(lambda: "Small and strong: bare_bulb" in self.text(), 300, "for the lights")
        self.until(lambda: "Weighing in full" not in self.text(), 120, "for it to be weighed")

        # Every trim by itself, and all together with the ladder.
        self.visit("/jobs/1/trim")
        self.until(lambda: "Working out" not in self.text(), 120, "for the proposals")
        self.says("Ladder of savings", "Copies to instances", "Fewer triangles")
        self.axe("Trim, all proposals")
        self.driver.find_element(By.PARTIAL_LINK_TEXT, "Fewer triangles").click()
        self.until(lambda: "trim=decimate" in self.driver.current_url)
        self.says("px off", "measured")
        self.axe("Trim, fewer triangles")

        # Looked at before and after.
        name = self.find("tbody tr td:nth-child(2)").text.split()[0]
        self.until(lambda: self.clicked("tbody a[aria-label$='before and after']"), 20)
        self.press("Measure what it changes")
        self.until(lambda: self.driver.find_elements(By.CSS_SELECTOR, "figure img"), 120, "crops")
        self.until(
            lambda: self.driver.execute_script(
                "return [...document.querySelectorAll('figure img')].every(i => i.naturalWidth)"
            )
        )
        self.says("RMS", "another seed", "SSIM", "the grain")
        self.axe("Trim, before and after")
        self.assertIn("trim=decimate", self.driver.current_url)  # the view is the same
        self.press("Close")

        # Staged with another parameter.
        self.until(lambda: self.clicked(f"a[aria-label='Set {name}']"), 20, "for “set”")
        self.until(lambda: "Stage it so" in self.text())
        box = self.find("tr [name='triangles']")
        self.driver.execute_script("arguments[0].select()", box)
        box.send_keys("200")
        self.press("Stage it so")
        self.until(lambda: self.staged() == "1 staged")
        self.says("staged with triangles left 200", "saving")

        # Taken off, staged again, applied: a version of its own.
        self.until(lambda: self.clicked("details button.plain"), 20, "for the entry")
        self.until(lambda: "staged" not in self.staged())
        self.until(lambda: self.clicked(f"input[aria-label='Stage {name}']"), 20, "for its box")
        self.until(lambda: self.staged() == "1 staged")
        self.press("Apply: new scene version")
        self.until(lambda: "scene version 2" in self.text().replace("\n", " "), 120, "for the trim")
        self.says("1 mesh thinned by")

        # Compared with what it was, and taken home.
        self.until(lambda: self.clicked("a[href='?compare=1']"), 20, "for “compare”")
        self.says("Version 1 and 2", "triangles drawn", "needed while it renders")
        self.axe("Trim, two versions compared")
        self.press("Write thinned meshes, OBJ")
        self.press("Version 2 as thinned meshes, OBJ")
        saved = self.until(lambda: next(self.downloads.glob("*.zip"), None), 60, "for the meshes")
        self.until(lambda: zipfile.is_zipfile(saved))
        with zipfile.ZipFile(saved) as z:
            self.assertEqual(z.namelist(), [f"{name}.obj"])
        self.press("CSV")
        listed = self.until(lambda: next(self.downloads.glob("*.csv"), None), 30, "for the list")
        self.assertIn(name, listed.read_text())
        self.press("to print")
        self.says("what was trimmed", name)
        self.axe("The list to print")

        # Undone: the version before is as it was.
        self.press("Back to Trim")
        self.until(lambda: "Scene versions" in self.text())
        self.until(lambda: self.clicked("form[action$='/version'] button"), 20, "for “Use”")
        self.until(
            lambda: "scene version 1" in self.text().replace("\n", " "), 20, "for the old version"
        )
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])

    def test_pictures_home(self) -> None:
        """A texture made leaner, and only it comes home, under its own name."""
        self.ready()
        self.press("Village bakery, dawn shot")
        self.until(lambda: "Weighing in full" not in self.text(), 300, "for it to be weighed")
        self.visit("/jobs/1/trim?trim=texture_channels")
        box = "input[aria-label='Stage bark_normal']"
        self.until(lambda: self.driver.find_elements(By.CSS_SELECTOR, box), 240, "to be decoded")
        self.until(lambda: self.clicked(box), 20)
        self.until(lambda: self.staged() == "1 staged")
        self.press("Apply: new scene version")
        self.until(lambda: "without idle channels or bits" in self.text(), 120, "for the trim")
        self.press("Write changed pictures, ZIP")
        link = (By.PARTIAL_LINK_TEXT, "as changed pictures, ZIP")
        self.until(lambda: self.driver.find_elements(*link), 60, "for the pictures to be written")
        self.until(lambda: self.clicked(link[1], link[0]), 20)
        saved = self.until(
            lambda: next(self.downloads.glob("*pictures*.zip"), None), 60, "for the pictures"
        )
        self.until(lambda: zipfile.is_zipfile(saved))
        with zipfile.ZipFile(saved) as z:
            self.assertEqual(z.namelist(), ["bark_normal.png"])
