"""Scenes of other kinds, opened in the browser; then their tables:

sorted, narrowed, chosen from the plan, saved.
"""

from __future__ import annotations

import csv
import zipfile
from pathlib import Path

import numpy as np
import trimesh
from pxr import Sdf, Usd, UsdGeom, UsdUtils
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.select import Select

from mill_lane.core.formats.pictures import write_pixels
from tests.browser.case import BrowserCase
from tests.core.test_meshes import CUBE, MTL
from tests.core.test_usd import quad


class TestFormats(BrowserCase):
    def open(self, path: Path) -> None:
        self.visit("/")
        self.find("#pick").send_keys(str(path))
        # The page goes to the job at once, and shows the scene as soon as it is read.
        self.until(lambda: "/jobs/" in self.driver.current_url, 30, "for the job")
        self.says("triangles", seconds=120)

    def names(self) -> list[str]:
        return [e.text for e in self.driver.find_elements(By.CSS_SELECTOR, "tbody a[data-row]")]

    def test_obj_in_a_zip(self) -> None:
        folder = self.downloads / "cube"
        folder.mkdir()
        (folder / "cube.obj").write_text(
            CUBE + CUBE.replace("o cube", "o second").replace("mtllib cube.mtl\n", "")
        )
        (folder / "cube.mtl").write_text(MTL)
        write_pixels(folder / "bricks.png", np.full((64, 64, 3), 120, np.uint8))
        path = self.downloads / "crate.zip"
        with zipfile.ZipFile(path, "w") as z:
            for file in folder.iterdir():
                z.write(file, f"crate/{file.name}")
        self.open(path)
        self.says("24 triangles", "was read as metres with Y up", "cube", "second")
        # Narrowed while typing, in the address, and gone on with after a reload.
        self.find("input[name='q']").send_keys("second")
        self.until(lambda: "q=second" in self.driver.current_url)
        self.until(
            lambda: len(self.driver.find_elements(By.CSS_SELECTOR, "tbody a[data-row]")) == 1
        )
        self.says("1 of 2")
        self.driver.refresh()
        self.says("1 of 2")
        self.click("a[href*='scene.csv']")
        saved = self.until(
            lambda: next(self.downloads.glob("*meshes.csv"), None), 20, "for the CSV"
        )
        rows = list(csv.DictReader(saved.read_text().splitlines()))
        self.assertEqual(
            [(r["name"], r["triangles"], r["copies"]) for r in rows], [("second", "12", "1")]
        )
        # Both ways: the row marks the plan, the plan marks the row.
        self.click("tbody a[data-row]")
        self.until(lambda: self.driver.find_elements(By.CSS_SELECTOR, "polygon.chosen"))
        self.driver.execute_script("document.querySelector('input[name=q]').select()")
        self.find("input[name='q']").send_keys(Keys.BACKSPACE)
        self.until(lambda: "q=" not in self.driver.current_url and len(self.names()) == 2)
        place = "svg a[aria-label='cube'] polygon"
        click = "dispatchEvent(new MouseEvent('click', {bubbles: true}))"
        self.driver.execute_script(f'document.querySelector("{place}").{click}')
        self.until(
            lambda: "cube" in self.find("tr.chosen").text,
            20,
            "for the row of what was chosen in the plan",
        )
        self.press("name")
        self.until(lambda: "sort=name" in self.driver.current_url)
        self.until(lambda: self.names() == ["cube", "second"])
        self.press("name ↑")
        self.until(lambda: self.names() == ["second", "cube"])
        self.axe("Scene, narrowed tables")

    def test_usdz(self) -> None:
        stage = Usd.Stage.CreateNew(str(self.downloads / "tray.usda"))
        UsdGeom.SetStageUpAxis(stage, "Z")
        UsdGeom.SetStageMetersPerUnit(stage, 0.01)
        instancer = UsdGeom.PointInstancer.Define(stage, "/rolls")
        quad(stage, "/rolls/roll", "catmullClark")
        instancer.CreatePrototypesRel().SetTargets(["/rolls/roll"])
        instancer.CreateProtoIndicesAttr([0] * 12)
        instancer.CreatePositionsAttr([(2.0 * (i % 4), 2.0 * (i // 4), 0.0) for i in range(12)])
        stage.Save()
        path = self.downloads / "tray.usdz"
        UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(self.downloads / "tray.usda")), str(path))
        self.open(path)
        self.says("384 triangles", "12 placed", "subdivision surface", "no camera")
        self.assertEqual([c for c in self.complaints() if "favicon" not in c], [])

    def test_reading_it_in_another_unit(self) -> None:
        """The guess can be put right: a new version of the scene, as large as it is meant."""
        mesh = trimesh.creation.box((90, 4, 99))
        mesh.apply_translation([0, 0, 49.5])
        path = self.downloads / "door.ply"
        path.write_bytes(mesh.export(file_type="ply"))
        self.open(path)
        self.says("read as metres with Z up, its largest side 99 m")
        Select(self.find("[name='unit']")).select_by_visible_text("centimetres")
        self.press("Read again")
        self.says(
            "read as centimetres with Z up, its largest side 0.99 m", "scene version 2", "no camera"
        )
        Select(self.find("[name='up']")).select_by_visible_text("Y up")
        self.press("Read again")
        self.says("read as centimetres with Y up", "scene version 3")

    def test_what_is_damaged(self) -> None:
        path = self.downloads / "half.ply"
        path.write_bytes(
            b"ply\nformat binary_little_endian 1.0\nelement vertex 9\nproperty float x\n"
            b"end_header\n12"
        )
        self.visit("/")
        self.find("#pick").send_keys(str(path))
        self.says("half.ply is damaged", "Export or copy it again", "Nothing was imported")
