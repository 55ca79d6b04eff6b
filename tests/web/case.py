"""A server without a browser, for the tests of pages and of what they ask."""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any, ClassVar

from bs4 import BeautifulSoup, Tag
from fastapi.testclient import TestClient
from sqlalchemy import select

from mill_lane.store.home import Home
from mill_lane.store.models import Render
from mill_lane.web.app import create_app
from mill_lane.web.shared.settings import Settings
from tests.homes import do_tasks, furnished

SMALL = {"width": 96, "height": 54, "samples": 2, "min_samples": 1, "device": 1}  # a trial
STATIONS = ("scene", "machine", "fit", "trials", "trim", "finish")


class WebCase(unittest.TestCase):
    """A furnished installation with a server on it."""

    made: ClassVar[Callable[[Path], Home]] = staticmethod(furnished)

    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        self.home = self.made(self.folder / "home")
        (self.folder / "scenes").mkdir()
        self.client = self.serve()

    def serve(self) -> TestClient:
        app = create_app(Settings(self.home, self.folder / "scenes"))
        client = TestClient(app, base_url="http://127.0.0.1:8410")
        client.__enter__()
        self.addCleanup(client.__exit__, None, None, None)
        return client

    def ended_trial(self, **more: Any) -> Render:
        """A small trial of the job, run to its end."""
        self.done("POST", "/api/jobs/1/trials", json=SMALL | more)
        do_tasks(self.home, "render")
        with self.home.sessions() as db:
            return db.scalars(select(Render).order_by(Render.id.desc()).limit(1)).one()

    def page(self, path: str) -> BeautifulSoup:
        """A page that answers, without an error in it."""
        answer = self.client.get(path, headers={"accept": "text/html"})
        self.assertEqual(answer.status_code, 200, answer.text[:300])
        return BeautifulSoup(answer.text, "html.parser")

    def figure(self, page: BeautifulSoup, station: str) -> str:
        """A station's figure in the strip on top."""
        found = page.find(attrs={"data-figure": station})
        assert found is not None
        return " ".join(found.get_text().split())

    def done(self, method: str, path: str, **more: object) -> dict[str, object]:
        """The answer to a change that goes well."""
        answer = self.client.request(method, path, **more)  # type: ignore[arg-type]
        self.assertEqual(answer.status_code, 200, answer.text)
        found: dict[str, object] = answer.json()
        return found

    def refused(self, method: str, path: str, status: int = 422, **more: object) -> dict[str, str]:
        """The answer to a change that is refused: what is wrong, and what to do."""
        answer = self.client.request(method, path, **more)  # type: ignore[arg-type]
        self.assertEqual(answer.status_code, status, answer.text)
        problem: dict[str, str] = answer.json()
        self.assertTrue(problem["error"] and problem["hint"], problem)
        return problem


def forms(page: BeautifulSoup, action: str) -> list[Tag]:
    """The forms that send to an address."""
    return list(page.find_all("form", attrs={"action": action}))
