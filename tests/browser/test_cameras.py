"""Another camera in the real interface: every figure follows, there and back."""

from __future__ import annotations

from selenium.webdriver.support.ui import Select

from mill_lane.core.formats.gltf import write_glb
from tests.browser.case import BrowserCase
from tests.web.test_cameras import EYES, many_cameras


class TestCameras(BrowserCase):
    def test_another_camera_and_back(self) -> None:
        path = self.folder / "cameras.glb"
        write_glb(many_cameras(), path)
        self.visit("/")
        self.find("#pick").send_keys(str(path))
        self.until(lambda: self.driver.current_url.endswith("/scene"))
        self.until(lambda: self.shown("wide"), 120, "for the first camera")
        for name in ("close", "behind", "wide"):
            Select(self.find("select[name='name']")).select_by_visible_text(name)
            self.until(lambda n=name: self.shown(n), 120, f"for {name}")
        job = self.driver.current_url
        self.driver.get("about:blank")
        self.driver.get(job)
        self.until(lambda: self.shown("wide"), 20, "for the same after reloading")

    def shown(self, name: str) -> bool:
        """Whether the page is about that camera, with the distance of the one object from it."""
        text = self.text()
        away = f"{abs(EYES[name][2]) - 0.5:.1f} m"
        return away in text and f"Camera “{name}”" in text and "Figures are of" not in text
