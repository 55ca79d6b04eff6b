"""A server, a worker and a headless Chromium for the tests that drive the real interface."""

from __future__ import annotations

import atexit
import functools
import json
import os
import re
import shutil
import sqlite3
import tempfile
import time
import unittest
import urllib.request
from collections.abc import Callable
from contextlib import closing, suppress
from pathlib import Path
from typing import Any, ClassVar

from selenium import webdriver
from selenium.common.exceptions import StaleElementReferenceException, WebDriverException
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.remote.webelement import WebElement

from tests.browser.prepared import prepared
from tests.browser.server import Server

REDRAWN = 5  # times in a row that a page is drawn anew while it is asked
POLL = 0.25  # seconds between two looks at a page: each takes time from what is waited for
PATIENCE = float(os.environ.get("MILL_LANE_PATIENCE", "3"))
ROOT = Path(__file__).resolve().parents[2]
# Links within drawings have no innerText.
LABELLED = """
    const [css, label] = arguments;
    const said = (e) => (e.innerText ?? e.textContent).trim().replace(/\\s+/g, " ");
    const fits = (e) => e.checkVisibility() && !e.disabled && said(e) === label;
    return [...document.querySelectorAll(css)].filter(fits);
"""
# A field in a line that is shut is not to be seen.
OPENED = """
    for (let el = arguments[0].closest("details"); el; el = el.parentElement.closest("details")) {
        el.open = true;
    }
"""
FLAGS = (
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--window-size=1280,800",
)


def new_driver() -> webdriver.Chrome:
    options = webdriver.ChromeOptions()
    for flag in (*FLAGS, f"--user-data-dir={tempfile.mkdtemp(prefix='mill-lane-chromium-')}"):
        options.add_argument(flag)
    options.binary_location = "/usr/bin/chromium"
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    return driver


@functools.cache
def shared_driver() -> webdriver.Chrome:
    """The browser of this process, which ends with it."""
    driver = new_driver()
    atexit.register(driver.quit)
    return driver


class BrowserCase(unittest.TestCase):
    """A server on a copy of the prepared home; with a size of the demo, on an empty one."""

    demo: ClassVar[str | None] = None
    look: ClassVar[int] = 1  # samples of the look that runs: more than is looked at is in the way
    server: ClassVar[Server]
    driver: ClassVar[webdriver.Chrome]
    folder: ClassVar[Path]
    downloads: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        keep = tempfile.TemporaryDirectory(prefix="mill-lane-browser-")
        cls.addClassCleanup(keep.cleanup)
        cls.folder = Path(keep.name)
        if cls.demo is None:
            shutil.copytree(prepared(), cls.folder / "home")
        cls.server = Server(cls.folder / "home", cls.demo or "small", look=cls.look)
        cls.addClassCleanup(cls.server.close)
        cls.downloads = cls.folder / "downloads"
        cls.downloads.mkdir()
        cls.driver = shared_driver()
        saved = {"behavior": "allow", "downloadPath": str(cls.downloads)}
        cls.driver.execute_cdp_cmd("Browser.setDownloadBehavior", saved)
        cls.addClassCleanup(cls.driver.get, "about:blank")
        cls.driver.get_log("browser")  # what pages of before had to complain of

    def visit(self, path: str) -> None:
        self.driver.get(self.server.base + path)
        self.until(
            lambda: self.driver.execute_script("return document.readyState") == "complete", 20
        )
        self.until(lambda: self.driver.execute_script("return Boolean(window.Alpine)"), 20)

    def until(self, condition: Callable[[], Any], seconds: float = 60, what: str = "") -> Any:
        # A busy machine may be slower than the one that the seconds were meant for; what is awaited
        # is the same.
        end = time.monotonic() + seconds * PATIENCE
        while True:
            try:
                value = condition()
                if value:
                    return value
            except (StaleElementReferenceException, WebDriverException):
                pass
            if time.monotonic() > end:
                self.driver.save_screenshot("/tmp/mill-lane-failed.png")
                self.fail(
                    f"waited {seconds} s in vain {what}; the page says: {self.text()[-2500:]}\n"
                    f"and its console: {self.complaints()}"
                )
            time.sleep(POLL)

    def ready(self) -> None:
        """Show the jobs, once the demo scene can be opened."""
        self.visit("/")
        name = "Village bakery, dawn shot"
        self.until(lambda: self.driver.find_elements(By.LINK_TEXT, name), 240, "for the demo scene")

    def trials_page(self) -> None:
        """Show the trials of the demo, once its scene is listed."""
        self.visit("/jobs/1/scene")
        self.until(lambda: "triangles" in self.text(), 240, "for the demo scene")
        self.visit("/jobs/1/trials")

    def kept(self) -> int:
        """Trials in the log, by the figure of their station."""
        words = self.figure("trials").split()
        return int(words[0]) if words and words[0].isdigit() else 0

    def trial(self, **values: object) -> None:
        """Begin a trial of the whole view with these values."""
        for name, value in values.items():
            self.fill(name, value, "#trial")
        self.press("Whole view")

    def finished_trial(self, **values: object) -> int:
        """Run a trial of the whole view to its end, and tell its number in the address."""
        before = self.kept()
        self.trial(**{"width": 64, "height": 36, "samples": 2, "min_samples": 1} | values)
        self.until(lambda: self.kept() == before + 1, 240, "for the trial")
        found = self.until(lambda: re.search(r"[?&]b=(\d+)", self.driver.current_url), 20)
        return int(found.group(1))

    def open_tasks(self) -> list[dict[str, Any]]:
        """The trials that wait, run or are paused, as they stand in the database."""
        query = (
            "SELECT t.id, t.state, t.live FROM tasks t JOIN renders r ON r.task_id = t.id"
            " WHERE r.kind = 'trial' AND t.state IN ('queued', 'running', 'paused') ORDER BY t.id"
        )
        rows = self.rows(query)
        return [{"id": n, "state": s, "live": json.loads(live or "{}")} for n, s, live in rows]

    def rows(self, query: str) -> list[Any]:
        """What the database answers."""
        path = next(self.server.home.glob("*.sqlite"))
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=10)) as db:
            return db.execute(query).fetchall()

    def live_task(self) -> dict[str, Any]:
        """The first of them; empty where there is none."""
        return next(iter(self.open_tasks()), {})

    def samples_done(self) -> float:
        """How far the first of them is."""
        return float((self.live_task().get("live") or {}).get("samples") or 0)

    def stop_trials(self) -> None:
        """Stop every open trial, so that the next test begins with none."""
        for task in self.open_tasks():
            address = f"{self.server.base}/api/tasks/{task['id']}/cancel"
            urllib.request.urlopen(urllib.request.Request(address, b"", method="POST")).close()
        self.until(lambda: not self.open_tasks(), 60, "for the open trials to end")

    def viewer(self, name: str) -> str:
        """An attribute of the image viewer; empty where it has none."""
        return self.attribute("image-viewer", f"data-{name}")

    def attribute(self, css: str, name: str) -> str:
        """One of an element, empty where it has none; asked again where the page was drawn anew
        between finding the element and asking it.
        """
        for _ in range(REDRAWN):
            with suppress(StaleElementReferenceException):
                return str(self.find(css).get_attribute(name) or "")
        self.fail(f"{css} does not stand still")

    def viewer_holds(self, *names: str) -> bool:
        """Whether the image viewer has loaded these pictures."""
        script = "return Object.keys(document.querySelector('image-viewer').pictures)"
        return set(names) <= set(self.driver.execute_script(script))

    def text(self) -> str:
        """What the page says, a line a block; in one step, where the driver would take many."""
        said = str(self.driver.execute_script("return document.body.innerText"))
        lines = (" ".join(line.split()) for line in said.splitlines())
        return "\n".join(line for line in lines if line)

    def says(self, *words: str, seconds: float = 60) -> None:
        for word in words:
            self.until(lambda w=word: w in self.text(), seconds, f"for “{word}”")

    def find(self, css: str) -> WebElement:
        return self.driver.find_element(By.CSS_SELECTOR, css)

    def press(self, label: str, within: str = "body") -> None:
        """Click the button or link with exactly this text."""

        def click() -> bool:
            css = f"{within} button, {within} a, {within} label"
            for e in self.driver.execute_script(LABELLED, css, label):
                if e.is_displayed():
                    e.click()
                    return True
            return False

        self.until(click, 20, f"for a button “{label}”")

    def click(self, css: str) -> None:
        """Click what a selector finds; once more where the page is drawn anew meanwhile."""

        def once() -> bool:
            self.find(css).click()
            return True

        self.until(once, 20, f"to click {css}")

    def fill(self, name: str, value: object, within: str = "main") -> None:
        """Write a value into a field; once more where the page was drawn anew meanwhile."""

        def write() -> bool:
            e = self.find(f"{within} [name='{name}']")
            self.driver.execute_script(OPENED, e)
            self.driver.execute_script("arguments[0].select && arguments[0].select()", e)
            e.send_keys(str(value))
            return e.get_attribute("value") == str(value)

        self.until(write, 20, f"to write {value} into {name}")

    def press_summary(self, label: str) -> None:
        """Open or shut what begins with a label."""
        for e in self.driver.find_elements(By.CSS_SELECTOR, "summary"):
            if e.text.strip().startswith(label):
                e.click()
                return
        self.fail(f"no line begins with {label}")

    def put(self, path: str, values: dict[str, int]) -> None:
        """Send what another page would, from this one."""
        script = """
            const [path, values, done] = arguments;
            const headers = { "Content-Type": "application/json" };
            fetch(path, { method: "PUT", headers, body: JSON.stringify(values) })
              .then((answer) => done(answer.status));
        """
        self.assertEqual(self.driver.execute_async_script(script, path, values), 200)

    def figure(self, station: str) -> str:
        return str(self.find(f"[data-figure='{station}']").text)

    def amount(self, pattern: str) -> float:
        found = re.search(pattern, self.text())
        assert found is not None, (pattern, self.text()[:800])
        return float(found.group(1))

    def complaints(self) -> list[str]:
        return [str(x["message"]) for x in self.driver.get_log("browser") if x["level"] == "SEVERE"]

    def axe(self, where: str) -> None:
        """No violation of WCAG 2.2 AA by axe-core."""
        source = (ROOT / "frontend/node_modules/axe-core/axe.min.js").read_text()
        self.driver.execute_script(source)
        tags = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
        result = self.driver.execute_async_script(
            "const done = arguments[1];"
            "const fail = (e) => done({violations: [{id: String(e), nodes: []}]});"
            "axe.run(document, {runOnly: arguments[0]}).then(done, fail);",
            tags,
        )
        bad = [(v["id"], [n["html"][:160] for n in v["nodes"][:3]]) for v in result["violations"]]
        self.assertEqual(bad, [], where)
