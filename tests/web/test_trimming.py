"""The Trim station without a browser: every trim, the ladder, lists, looks, versions."""

from __future__ import annotations

import csv
import io
import zipfile
from typing import Any

from sqlalchemy import select

from mill_lane.core.trim import TRIMS
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.jobs import costs, trims
from mill_lane.store.models import SceneVersion, Task, TrimEntry
from tests.homes import do_tasks, small_picture, weigh_fully, weighed
from tests.web.case import WebCase

LIST = "/api/jobs/1/trim-list"


class TrimCase(WebCase):
    """The trim list of the demo, and its rows on the page."""

    def entries(self) -> list[TrimEntry]:
        with self.home.sessions() as db:
            return list(db.scalars(select(TrimEntry).order_by(TrimEntry.id)))

    def rows(self, query: str) -> list[Any]:
        table = self.page(f"/jobs/1/trim{query}").find("div", attrs={"aria-label": "Proposals"})
        return [] if table is None else table.select("tbody tr")  # type: ignore[union-attr]


class TestTrimming(TrimCase):
    def setUp(self) -> None:
        super().setUp()
        small_picture(self.home)

    def test_from_weighing_to_a_version_and_home(self) -> None:
        self.assertIn("once the scene is weighed", self.page("/jobs/1/trim").get_text())
        found = self.rows("?trim=texture_size")
        one = {"trim": "texture_size", "target": target_of(found[0])}
        unknown = self.refused("POST", "/api/jobs/1/visible-costs", json=one)
        self.assertIn("not known yet", unknown["error"])
        weigh_fully(self.home)
        page = self.page("/jobs/1/trim")
        tabs = page.find("nav", attrs={"aria-label": "Trims"})
        assert tabs is not None
        for title in ("Copies to instances", "Fewer triangles", "Small strong lights"):
            self.assertIn(title, tabs.get_text())
        self.assertIn("Ladder of savings", page.get_text())

        # Filtered, sorted, and each trim by itself.
        self.assertGreater(len(self.rows("?find=instance")), 2)
        self.assertEqual(self.rows("?find=instance+nothing+like+it"), [])
        names = [r.select("td")[1].get_text().split()[0] for r in self.rows("?sort=name")]
        staying = sum("stays" in r.get_text() for r in self.rows("?sort=name"))
        free = names[: len(names) - staying]
        self.assertEqual(free, sorted(free, key=str.lower))
        for trim in TRIMS:
            self.page(f"/jobs/1/trim?trim={trim.name}")
        self.refused("POST", "/api/jobs/1/proposals", 404, json={"trim": "magic"})

        # Asked otherwise: by a share of the triangles.
        go = self.done("POST", "/api/jobs/1/proposals", json={"trim": "decimate", "ratio": "0.5"})[
            "go"
        ]
        self.assertIn("Working out", self.page(str(go)).get_text())
        do_tasks(self.home, "propose")
        self.assertGreater(len(self.rows(str(go).removeprefix("/jobs/1/trim"))), 0)
        wrong = self.refused(
            "POST", "/api/jobs/1/proposals", json={"trim": "decimate", "pixels": "-3"}
        )
        self.assertIn("more than 0", wrong["error"])

        # Staged as proposed, then with another parameter, then one taken off.
        for name in ("instances", "decimate", "texture_size"):
            self.done("POST", LIST, json={"trim": name, "all": True})
        before = len(self.entries())
        thin = next(e for e in self.entries() if e.trim == "decimate")
        body = {"trim": "decimate", "target": thin.target, "triangles": "77"}
        self.done("PUT", LIST, json=body)
        (row,) = [e for e in self.entries() if e.id == thin.id]
        self.assertEqual(row.parameters, {"triangles": 77})
        self.assertIn("staged with triangles left 77", self.page("/jobs/1/trim").get_text())
        self.refused("PUT", LIST, json=body | {"triangles": "many"})
        self.refused("PUT", LIST, 404, json=body | {"target": "mesh:9999"})
        off = {"trim": thin.trim, "targets": [thin.target], "stage": False}
        self.done("POST", LIST, json=off)
        self.assertEqual(len(self.entries()), before - 1)

        # Applied, compared, taken home.
        with self.home.sessions() as db:
            old = read_analysis(db.scalars(select(SceneVersion)).one().analysis)
            told = trims.foreseen(old, trims.staged(db, db.scalars(select(SceneVersion)).one()))
        self.done("POST", "/api/jobs/1/trim", json={})
        self.assertEqual(do_tasks(self.home, "trim"), 1)
        with self.home.sessions() as db:
            new = db.scalars(select(SceneVersion).order_by(SceneVersion.id.desc())).first()
            assert new is not None
            got = read_analysis(new.analysis)
        self.assertEqual(got.instances, told.instances)
        self.assertAlmostEqual(got.triangles / told.triangles, 1.0, delta=0.02)
        self.assertLess(got.unique_triangles, old.unique_triangles)
        self.assertEqual(self.entries(), [])
        compared = self.page("/jobs/1/trim?compare=1").get_text()
        self.assertIn("Version 1 and 2", " ".join(compared.split()))
        self.assertEqual(self.client.get("/jobs/1/trim?compare=99").status_code, 404)
        self.home_again()

    def home_again(self) -> None:
        text = self.client.get("/jobs/1/trim-list.csv").text
        rows = list(csv.DictReader(io.StringIO(text)))
        self.assertTrue(all(r["object"] and r["what"] and r["why"] for r in rows), rows[:3])
        body = self.client.get("/jobs/1/trim-list.json").json()
        self.assertEqual((body["version"], len(body["changes"])), (2, len(rows)))
        self.assertIn("what was trimmed", self.page("/jobs/1/trim-report").get_text())
        for name in ("pictures", "meshes-obj"):
            self.done("POST", "/api/jobs/1/exports", json={"format": name})
        self.assertEqual(do_tasks(self.home, "export"), 2)
        with self.home.sessions() as db:
            made = db.scalars(select(Task).where(Task.kind == "export")).all()
        for task in made:
            data = self.client.get(f"/jobs/1/exports/{task.id}").content
            with zipfile.ZipFile(io.BytesIO(data)) as z:
                self.assertGreater(len(z.namelist()), 0)
        self.page("/jobs/1/trim")
        # The first version has nothing of the kind.
        with self.home.sessions() as db:
            first = db.scalars(select(SceneVersion).order_by(SceneVersion.id)).first()
            assert first is not None
        self.done("PUT", "/api/jobs/1/version", json={"version": first.id})
        self.refused("POST", "/api/jobs/1/exports", json={"format": "pictures"})

    def test_down_to_the_post(self) -> None:
        """What the ladder needs is staged, and then it fits."""
        self.done("POST", f"{LIST}/down-to-line")
        n = len(self.entries())
        self.assertGreater(n, 0)
        page = " ".join(self.page("/jobs/1/trim").get_text().split())
        self.assertRegex(page, "left on")
        self.done("POST", LIST, json={"trim": "", "all": True, "stage": False})
        self.assertEqual(self.entries(), [])


class TestLooks(TrimCase):
    made = staticmethod(weighed)

    def test_looks(self) -> None:
        ask = "/api/jobs/1/visible-costs"
        self.refused("POST", ask, json={})
        strong = next(iter(self.rows("?trim=strong_lights")))
        key = target_of(strong)
        one = {"trim": "strong_lights", "target": key}
        self.assertIn(
            "Measure what it changes",
            self.page(f"/jobs/1/trim?look=strong_lights/{key}").get_text(),
        )
        go = str(self.done("POST", ask, json=one)["go"])
        self.done("POST", ask, json=one)  # once is enough
        self.assertIn("Rendering crops", self.page(go).get_text())
        self.assertEqual(do_tasks(self.home, "visible_cost"), 1)
        page = self.page(go)
        pictures = [str(i["src"]) for i in page.select("figure img")]
        self.assertEqual(len(pictures) % 3, 0)
        for at in pictures:
            self.assertEqual(self.client.get(at).headers["content-type"], "image/png")
        self.assertEqual(self.client.get("/jobs/1/crops/99/0/before.png").status_code, 404)
        self.done("POST", LIST, json=one | {"targets": [key]})
        self.done("POST", ask, json={})
        self.done("POST", f"{ask}/stop")
        with self.home.sessions() as db:
            version = db.scalars(select(SceneVersion)).one()
            known = costs.costs_of(db, version)
            self.assertTrue(all(c.task.over for c in known.values()))
            self.assertTrue(any(c.known for c in known.values()))

    def test_looks_follow_the_list(self) -> None:
        """What is staged is measured by itself, what is taken off is not; its time is shown."""
        strong = next(iter(self.rows("?trim=strong_lights")))
        key = target_of(strong)
        boxes = [r.select_one("input[name='targets']") for r in self.rows("?trim=decimate")]
        keys = [str(x["value"]) for x in boxes if x is not None]
        self.assertIn("none is known yet", self.page("/jobs/1/trim").get_text())
        self.done("POST", LIST, json={"trim": "strong_lights", "targets": [key]})
        self.assertEqual(self.looks(), [1])
        self.done("POST", LIST, json={"trim": "decimate", "targets": keys[:2]})
        self.assertEqual(self.looks(), [1, 1, 1, 3])
        off = {"trim": "decimate", "targets": keys[:1], "stage": False}
        self.done("POST", LIST, json=off)
        self.assertEqual(self.looks(), [1, 1, 2])
        self.done("POST", LIST, json=off | {"targets": keys[1:2]})
        self.assertEqual(self.looks(), [1])
        self.assertEqual(do_tasks(self.home, "visible_cost"), 1)
        text = " ".join(self.page("/jobs/1/trim").get_text().split())
        self.done("POST", LIST, json={"trim": "decimate", "targets": keys[:1]})
        self.assertEqual(self.looks(), [1, 2])
        self.done("POST", "/api/jobs/1/trim", json={})
        self.assertEqual(self.looks(), [])  # applied: nobody waits for them
        self.assertRegex(text, r"Small strong lights: \S+ \d[\d.]* %")

    def looks(self) -> list[int]:
        """How many choices each look is about that is still to be taken."""
        with self.home.sessions() as db:
            version = db.scalars(select(SceneVersion)).one()
            found = costs.costs_of(db, version).values()
            return sorted(len(c.choices) for c in found if not c.task.over)


def target_of(row: Any) -> str:
    """What a row of the proposals is about."""
    return str(row.select_one("input[name='targets']")["value"])
