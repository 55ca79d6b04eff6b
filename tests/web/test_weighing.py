"""Pages and changes that belong to weighing: before it is done, what-ifs, memory profiles."""

from __future__ import annotations

import re

from sqlalchemy import select

from mill_lane.core.devices.model import GB
from mill_lane.store.models import Job, Render, SceneVersion, Task
from mill_lane.web.shared.format import gigabytes
from tests.web.case import WebCase, forms


class TestWeighing(WebCase):
    def test_before_anything_was_looked_at(self) -> None:
        """Pages show what is known; what is not cannot be chosen, and nothing waits for it."""
        transparency = self.page("/jobs/1/scene?tab=transparency")
        self.assertEqual(transparency.find_all("figure"), [])
        shades = transparency.find_all("option", attrs={"disabled": True})
        self.assertEqual({o["value"] for o in shades}, {"density", "texels", "seen"})
        trim = self.page("/jobs/1/trim?rule=footprint")
        self.assertEqual(
            [a["href"] for a in trim.find_all("a", string="distance")],
            ["?trim=texture_size&rule=distance"],
        )
        self.assertEqual(trim.find_all("a", attrs={"href": "?rule=footprint"}), [])
        for path in (
            "scene?shade=seen&frame=9999&image=3",
            "scene?shade=nothing&tab=nowhere",
            "scene?q=%3E5m",
            "scene?q=%3E",
        ):
            self.page(f"/jobs/1/{path}")
        far = self.page("/jobs/1/scene?q=%3E30").find_all("a", attrs={"data-row": True})
        self.assertNotIn("counter", [a.get_text() for a in far])

    def test_what_if(self) -> None:
        """What is asked moves the bar; what cannot be is refused."""

        def needed(query: str) -> str:
            bar = self.page(f"/jobs/1/fit{query}").find(
                "svg", attrs={"viewbox": re.compile("^0 -26")}
            )
            return str(bar["aria-label"])  # type: ignore[index]

        self.assertIn(gigabytes(3 * GB), needed(""))
        self.assertIn(gigabytes(4.5 * GB), needed("?lend=1.5"))
        self.assertNotEqual(needed(""), needed("?tile=64"))
        self.assertNotEqual(needed(""), needed("?width=4000&height=3000"))
        self.assertEqual(needed("?layers=albedo"), needed("?layers=albedo,nonsense"))
        for odd in ("width=0", "width=99999", "lend=1e300", "lend=-1", "flight=-5", "lend=nan"):
            answer = self.client.get(f"/jobs/1/fit?{odd}")
            self.assertEqual(answer.status_code, 422, odd)
            self.assertTrue(answer.json()["hint"])
        self.page("/jobs/1/fit?profile=99")

    def test_what_is_mapped_is_told_apart(self) -> None:
        """On this computer, where the application maps what it keeps; not for a simulated card."""
        said = "Of that, mapped"
        self.assertNotIn(said, self.page("/jobs/1/fit").get_text())
        self.done("PUT", "/api/jobs/1/device", json={"device": 1})
        table = self.page("/jobs/1/fit").find("table", attrs={"class": "mt-2"})
        rows = {r.find("td").get_text(strip=True): r for r in table.find_all("tr")[1:]}
        gb = {name: float(r.find_all("td")[1].get_text()) for name, r in rows.items()}
        mapped, whole = gb["Of that, mapped"], gb["Together"]
        self.assertAlmostEqual(mapped, gb["Textures"] + gb["Acceleration"], delta=0.002)
        told = rows["Of that, mapped"].get_text()
        most, least = re.findall(r"([\d.]+) (?:GB at most|at least)", told)
        self.assertAlmostEqual(float(least), whole - mapped, delta=0.002)
        self.assertAlmostEqual(float(most), whole, delta=0.002)
        parts = sum(n for name, n in gb.items() if name not in ("Together", "Of that, mapped"))
        self.assertAlmostEqual(parts, whole, delta=0.003)
        self.assertGreater(gb["Process"], 0.2)  # libraries and kernels, whatever is rendered
        # Once a trial tells how much of what is mapped was read, the usual is told.
        with self.home.sessions.begin() as db:
            held, every = 10**8, {"memory_bytes": 3 * 10**8, "mapped_bytes": 2 * 10**8}
            version = db.get_one(Job, 1).version_id
            made = {"version_id": version, "recipe": {}, "region": [0, 0, 1, 1], "frame": 1}
            measured = {"peak_memory_bytes": held + 5 * 10**7}
            db.add(
                Render(
                    job_id=1,
                    kind="trial",
                    number=99,
                    device={},
                    picture=db.get_one(SceneVersion, version).file_hash,
                    predicted=every,
                    measured=measured,
                    removed=True,
                    **made,
                )
            )
        text = self.page("/jobs/1/fit").get_text()
        usual = float(re.findall(r"([\d.]+) as usual", " ".join(text.split()))[0])
        self.assertAlmostEqual(usual, whole - mapped * 0.75, delta=0.003)

    def test_a_profile_from_begin_to_end(self) -> None:
        go = str(self.done("POST", "/api/jobs/1/profiles", json={"name": "elsewhere"})["go"])
        number = int(go.split("=")[1])
        self.refused("POST", f"/api/profiles/{number}/fit")
        log = {"width": 1920, "height": 1080, "samples": 100_000}
        for peak in (3.0, 3.2):
            self.done(
                "POST", f"/api/jobs/1/profiles/{number}/trials", json={**log, "peak_gb": peak}
            )
        self.done("POST", f"/api/profiles/{number}/fit")
        # Two peaks for the same render: it fits between them.
        rows = self.page(go).find_all("form", attrs={"action": lambda a: a and "/api/logged/" in a})
        off = [float(f.find_parent("tr").find_all("td")[3].get_text().split()[0]) for f in rows]
        self.assertTrue(off[0] > 2 and off[1] < -2, off)
        self.done("DELETE", "/api/logged/2")
        self.assertEqual(len(forms(self.page(go), "/api/logged/2")), 0)
        self.done("POST", "/api/logged/2/restore")
        self.assertEqual(len(forms(self.page(go), "/api/logged/2")), 1)
        self.refused("PUT", f"/api/profiles/{number}", json={"name": "elsewhere", "triangle": -1})
        self.refused("PUT", "/api/profiles/77", 404, json={"name": "elsewhere"})
        self.done("DELETE", f"/api/profiles/{number}")
        self.assertNotIn("elsewhere", self.page("/jobs/1/machine").get_text())
        self.done("POST", f"/api/profiles/{number}/restore")
        self.assertIn("elsewhere", self.page("/jobs/1/fit").get_text())

    def test_out_in_another_format(self) -> None:
        self.refused("POST", "/api/jobs/1/exports", json={"format": "text"})
        self.done("POST", "/api/jobs/1/exports", json={"format": "usdz"})
        with self.home.sessions() as db:
            task = db.scalars(select(Task).where(Task.kind == "export")).one()
        stop = f"/api/tasks/{task.id}/cancel"
        self.assertEqual(len(forms(self.page("/jobs/1/trim"), stop)), 1)
        # It is not written yet.
        self.assertEqual(self.client.get(f"/jobs/1/exports/{task.id}").status_code, 404)
