"""Subdivision surfaces as a person trims them: levels side by side, one chosen, applied."""

from __future__ import annotations

from pxr import Gf, Usd, UsdGeom, UsdLux
from selenium.webdriver.common.by import By

from tests.browser.case import BrowserCase
from tests.core.test_usd_surfaces import cube


class TestSurfaces(BrowserCase):
    def test_levels_by_size_on_screen(self) -> None:
        path = self.downloads / "buns.usda"
        stage = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageUpAxis(stage, "Y")
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        for name, at in (("near", -400.0), ("far", -9000.0)):
            cube(stage, f"/{name}").AddTranslateOp().Set(Gf.Vec3d(0, 0, at))
        UsdGeom.Camera.Define(stage, "/camera")
        UsdLux.DistantLight.Define(stage, "/sun").CreateIntensityAttr(3.0)
        stage.Save()
        self.visit("/")
        self.find("#pick").send_keys(str(path))
        self.until(lambda: "/jobs/" in self.driver.current_url, 30, "for the job")
        self.says("subdivision surfaces", seconds=120)
        self.until(lambda: "Weighing in full" not in self.text(), 240, "for it to be weighed")

        job = self.driver.current_url.removeprefix(self.server.base).split("/")[2]
        self.visit(f"/jobs/{job}/trim?trim=dicing")
        self.says("Level of subdivision surfaces", "level 2 at most", "Predicted")
        self.axe("Trim, levels of surfaces")
        cell = "a[href='?trim=dicing&edge=8&cap=4&finer=true']"
        self.until(lambda: self.driver.find_elements(By.CSS_SELECTOR, cell), 20)
        self.click(cell)
        self.until(lambda: "edge=8" in self.driver.current_url)
        box = "input[aria-label='Stage far']"
        self.until(lambda: self.driver.find_elements(By.CSS_SELECTOR, box), 20, "for the far one")
        self.says("level 2 → 0", "edges of at most")
        self.click(box)
        self.until(lambda: self.figure("trim") == "1 staged")
        self.press("Apply: new scene version")
        self.until(lambda: "scene version 2" in self.text().replace("\n", " "), 120, "for the trim")
        self.says("1 subdivision surface set to the level that the shot needs")
        self.press("Write GLB")
        self.press("Version 2 as GLB")
        self.until(lambda: next(self.downloads.glob("*.glb"), None), 60, "for the file")
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])
