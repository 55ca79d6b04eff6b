"""Scenes as artists send them, in the real interface: upright cameras, three hundred chairs, a ZIP
with a choice, light from a picture that goes home.
"""

from __future__ import annotations

import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdLux, UsdUtils
from selenium.webdriver.common.by import By
from selenium.webdriver.support.select import Select

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.render.sky_picture import sky_pixels
from tests.browser.case import BrowserCase
from tests.core.test_zips import PART, payload
from tests.scenes import write_sky
from tests.web.test_cameras import many_cameras
from tests.web.test_groups import chairs

COPIES = 300


class TestSentScenes(BrowserCase):
    def send(self, path: Path) -> str:
        """Open a scene; returns the address of its job."""
        self.visit("/")
        self.find("#pick").send_keys(str(path))
        self.until(lambda: self.driver.current_url.endswith("/scene"), 30, "for the job")
        return self.driver.current_url.removesuffix("/scene")

    def test_an_upright_camera(self) -> None:
        """Pictures stand as it does, told, and as another camera does that is chosen."""
        scene = many_cameras()
        shapes = (9 / 16, 16 / 9, 16 / 9, 16 / 9)
        upright = tuple(replace(c, aspect=s) for c, s in zip(scene.cameras, shapes, strict=True))
        path = self.folder / "upright.glb"
        write_glb(replace(scene, cameras=upright), path)
        job = self.send(path)
        self.says("stands upright (9:16)", seconds=120)
        self.driver.get(f"{job}/finish/night")
        self.says("1080 × 1920")
        self.driver.get(f"{job}/scene")
        Select(self.find("select[name='name']")).select_by_visible_text("close")
        self.until(lambda: "Camera “close”" in self.text(), 120, "for the other camera")
        self.driver.get(f"{job}/finish/night")
        self.says("1920 × 1080")

    def test_three_hundred_chairs_are_one_row(self) -> None:
        """Opened, closed, staged and taken off as one; the queue tells what goes on meanwhile."""
        path = self.folder / "chairs.glb"
        write_glb(chairs(COPIES, 6), path)
        job = self.send(path)
        self.says("Meshes 301", seconds=180)
        self.driver.get(f"{job}/trim?trim=instances")
        self.says(f"× {COPIES - 1}", f"{COPIES - 1} copies drawn as instances", seconds=60)
        self.assertEqual(len(self.rows()), 1)
        self.press("open")
        self.until(lambda: len(self.rows()) == COPIES, 20, "for the single ones")
        self.press("close")
        self.until(lambda: len(self.rows()) == 1, 20, "for the one row")
        self.click("tbody input[type=checkbox]")
        self.says(f"{COPIES - 1} staged", seconds=20)
        self.axe("Trim, copies as one row")
        self.click("tbody input[type=checkbox]")
        self.says("0 staged", seconds=20)
        Select(self.find("select[data-param='by']")).select_by_visible_text("nothing")
        self.until(lambda: len(self.rows()) == COPIES - 1, 20, "for a row each")
        self.driver.get(f"{job}/trim")
        self.driver.get(job.rpartition("/jobs/")[0] + "/queue")
        self.says("Queue")
        self.axe("Queue")

    def rows(self) -> list[object]:
        return list(self.driver.find_elements(By.CSS_SELECTOR, "[aria-label=Proposals] tbody tr"))

    def test_a_zip_with_a_choice(self) -> None:
        path = self.folder / "two.zip"
        with zipfile.ZipFile(path, "w") as z:
            z.writestr("one.usda", payload("parts/p.usda"))
            z.writestr("two.usda", PART)
            z.writestr("parts/p.usda", PART)
        self.send(path)
        self.says("one.usda", "two.usda", seconds=60)
        Select(self.find("select[name='root']")).select_by_visible_text("two.usda")
        self.find("select[name='root']").find_element(By.XPATH, "ancestor::form//button").click()
        self.says("24 triangles", seconds=120)

    def test_light_from_a_picture_goes_home(self) -> None:
        """A package with a dome: lit by its picture, told, taken home as one, opened again."""
        pixels = np.full((16, 32, 3), 0.5, np.float32)
        pixels[4:6, 8:12] = 20.0
        write_sky(self.folder / "morning.exr", pixels)
        stage = Usd.Stage.CreateNew(str(self.folder / "loaf.usda"))
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        UsdGeom.SetStageUpAxis(stage, "Y")
        UsdGeom.Sphere.Define(stage, "/loaf")
        UsdLux.DomeLight.Define(stage, "/dome").CreateTextureFileAttr("./morning.exr")
        stage.Save()
        path = self.folder / "loaf.usdz"
        UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(self.folder / "loaf.usda")), str(path))
        job = self.send(path)
        self.says("triangles", seconds=120)
        self.driver.get(f"{job}/scene?tab=lights")
        self.says("The sky lights the scene", "morning.exr")
        self.driver.get(f"{job}/trim")
        self.press("Write USD")
        link = self.until(
            lambda: next(iter(self.driver.find_elements(By.CSS_SELECTOR, "a[href*='exports']")), 0),
            120,
            "for the package",
        )
        link.click()
        saved = self.until(lambda: next(self.downloads.glob("*.usdz"), None), 30, "for the file")
        home = open_scene(saved)
        again = sky_pixels(home.environment.picture)
        self.assertAlmostEqual(float(again.max()), 20.0, delta=0.1)
        self.send(saved)
        self.says("triangles", seconds=120)
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])
