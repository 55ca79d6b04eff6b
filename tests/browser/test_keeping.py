"""What is kept, freed, and told when work is not being done."""

from __future__ import annotations

import json
import os
import signal
import urllib.request
from typing import Any

from selenium.webdriver.common.by import By

from tests.browser.case import BrowserCase


class TestKeeping(BrowserCase):
    def health(self) -> dict[str, Any]:
        with urllib.request.urlopen(f"{self.server.base}/healthz", timeout=10) as answer:
            found: dict[str, Any] = json.load(answer)
        return found

    def test_freeing_what_nothing_uses(self) -> None:
        self.ready()
        # In the store, which is swept at a start alone: the scratch folder is tidied every now and
        # then while the worker has nothing to do, which may well be first.
        remains = self.server.home / "files" / "cut-off"
        remains.write_bytes(b"x" * 3_000_000)
        self.press("What is kept on the disk")
        self.says("What this home takes", "3.00 MB in 1 file; nothing is lost", "In /")
        self.axe("what is kept")
        self.press("Free what nothing uses")
        self.says("3.00 MB freed.", "There is nothing of that kind.")
        self.assertFalse(remains.exists())
        self.press("To your jobs")
        self.ready()

    def test_a_worker_that_stands_still_is_told(self) -> None:
        """The line comes by itself, on a page that is open, and goes when work goes on."""
        self.ready()
        self.visit("/jobs/1/scene")
        pid = int(self.health()["worker"]["pid"])
        os.kill(pid, signal.SIGSTOP)
        try:
            self.says("The process that does the work does not answer.")
        finally:
            os.kill(pid, signal.SIGCONT)
        self.until(lambda: "does not answer" not in self.text(), 30, "for the line to go")

    def test_a_killed_worker_is_no_news(self) -> None:
        """It is back within seconds, and the trial that it was about goes on to its end."""
        self.trials_page()
        before = self.kept()
        self.trial(width=160, height=90, samples=40, min_samples=40)
        self.until(lambda: self.samples_done() >= 1, 120, "for the first sample")
        old = int(self.health()["worker"]["pid"])
        os.kill(old, signal.SIGKILL)
        self.until(lambda: self.kept() == before + 1, 240, "for the trial")
        self.assertNotEqual(int(self.health()["worker"]["pid"]), old)
        self.assertEqual(self.driver.find_elements(By.CSS_SELECTOR, "[data-troubles] p"), [])
