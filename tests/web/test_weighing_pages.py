"""Pages and changes that belong to weighing:

views before it is done, what-ifs, memory profiles, scenes that go out.
"""

from __future__ import annotations

from sqlalchemy import select

from mill_lane.store.models import Task
from tests.web.test_web import WebCase as _WebCase


class TestWeighing(_WebCase):
    def test_before_anything_was_looked_at(self) -> None:
        """Pages say what is not known yet; nothing waits for it."""
        self.assertIn("Known as soon as", self.page("/jobs/1/scene?tab=transparency"))
        self.assertIn("being looked at", self.page("/jobs/1/trim?rule=footprint"))
        self.assertEqual(self.client.get("/jobs/1/overlap.png").status_code, 404)
        for path in (
            "scene?shade=seen&frame=9999&image=3",
            "scene?shade=nothing&tab=nowhere",
            "scene?q=%3E5m",
            "scene?q=%3E",
        ):
            self.page(f"/jobs/1/{path}")
        self.assertNotIn("counter", self.page("/jobs/1/scene?q=%3E30").split("<tbody>")[-1])

    def test_what_if(self) -> None:
        usual, asked = (
            self.page("/jobs/1/fit"),
            self.page("/jobs/1/fit?tile=64&flight=100000&lend=1.5&layers=albedo,nonsense"),
        )
        self.assertIn("262,144</span> samples in flight", usual)
        self.assertIn("4,096</span> samples in flight", asked)
        self.assertIn("1.50 GB of it lent", asked)
        for odd in ("width=0", "width=99999", "lend=1e300", "lend=-1", "flight=-5", "lend=nan"):
            answer = self.client.get(f"/jobs/1/fit?{odd}")
            self.assertEqual(answer.status_code, 422, odd)
            self.assertTrue(answer.json()["hint"])
        self.page("/jobs/1/fit?profile=99")

    def test_a_profile_from_begin_to_end(self) -> None:
        number = int(
            self.client.post("/api/jobs/1/profiles", json={"name": "elsewhere"})
            .json()["go"]
            .split("=")[1]
        )
        self.refused("POST", f"/api/profiles/{number}/fit")
        log = {"width": 1920, "height": 1080, "peak_gb": 3.0, "samples": 100_000}
        for peak in (3.0, 3.2):
            self.client.post(f"/api/jobs/1/profiles/{number}/trials", json={**log, "peak_gb": peak})
        self.assertEqual(self.client.post(f"/api/profiles/{number}/fit").status_code, 200)
        # Two peaks for the same render: it fits between them.
        text = self.page(f"/jobs/1/machine?profile={number}")
        self.assertIn("+3", text)
        self.assertIn("-3", text)
        self.client.delete("/api/logged/2")
        self.assertIn("Fit to 1 trial<", self.page(f"/jobs/1/machine?profile={number}"))
        self.client.post("/api/logged/2/restore")
        self.assertIn("Fit to 2 trials<", self.page(f"/jobs/1/machine?profile={number}"))
        self.refused("PUT", f"/api/profiles/{number}", json={"name": "elsewhere", "triangle": -1})
        self.client.delete(f"/api/profiles/{number}")
        self.assertNotIn("elsewhere", self.page("/jobs/1/machine"))
        self.client.post(f"/api/profiles/{number}/restore")
        self.assertIn("elsewhere", self.page("/jobs/1/fit"))

    def test_out_in_another_format(self) -> None:
        self.refused("POST", "/api/jobs/1/exports", json={"format": "text"})
        self.client.post("/api/jobs/1/exports", json={"format": "usdz"})
        self.assertIn("Version 1 as USDZ", self.page("/jobs/1/trim"))
        with self.home.sessions() as db:
            task = db.scalars(select(Task).where(Task.kind == "export")).one()
        self.assertEqual(
            self.client.get(f"/jobs/1/exports/{task.id}").status_code, 404
        )  # not written yet
        self.assertEqual(self.client.get("/jobs/1/exports/1").status_code, 404)
