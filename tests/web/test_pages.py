"""The pages of the stations: what they say is what is kept."""

from __future__ import annotations

import csv
import io
import unittest
from types import SimpleNamespace

from sqlalchemy import event

from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.core.weigh.findings import find
from mill_lane.jobs.lookup import find_job, find_version
from mill_lane.jobs.summary import Summary, summarise
from mill_lane.store.models import SceneVersion
from mill_lane.web.shared.format import gigabytes, size
from mill_lane.web.shared.memo import remembered
from mill_lane.web.stations.scene import tables
from mill_lane.web.stations.scene.tables import as_csv
from mill_lane.web.stations.scene.words import WORDS
from tests.scenes import small_demo
from tests.web.case import STATIONS, WebCase


class TestPages(WebCase):
    def summary(self) -> Summary:
        with self.home.sessions() as db:
            job = find_job(db, 1)
            return summarise(db, job, find_version(db, job))

    def test_the_strip_has_the_figures_of_the_services(self) -> None:
        s = self.summary()
        for station in STATIONS:
            page = self.page(f"/jobs/1/{station}")
            current = page.find("a", attrs={"aria-current": "page"})
            self.assertEqual(current["href"], f"/jobs/1/{station}")  # type: ignore[index]
            over = size(-s.verdict.headroom)
            self.assertEqual(self.figure(page, "fit"), f"{over} over")
            self.assertEqual(self.figure(page, "machine"), f"{gigabytes(s.device.free_bytes)} free")
            self.assertEqual(self.figure(page, "trim"), f"{s.proposals} to look at")
        self.assertGreater(s.proposals, 20)
        self.assertIn(s.verdict.sentence(), self.page("/jobs/1/fit").get_text())

    def test_circles_on_the_plan_carry_their_distances(self) -> None:
        """Four pixels above its circle, where that is within the picture."""
        page = self.page("/jobs/1/scene")
        circles = [c for c in page.select("circle[data-round]") if c.get("stroke-dasharray")]
        tops = [float(str(c["cy"])) - float(str(c["r"])) for c in circles]
        texts = {t.get_text(): float(str(t["y"])) for t in page.select("svg text.num")}
        self.assertEqual(len(tops), 2)
        for words, top in zip(("3 m", "10 m"), tops, strict=True):
            if top - 4 > 12:
                self.assertAlmostEqual(texts[words], top - 4, delta=0.2)
            else:
                self.assertNotIn(words, texts)

    def test_every_finding_has_words_and_leads_to_rows(self) -> None:
        analysis = self.summary().analysis
        found = find(analysis, 1080)
        self.assertIn("duplicates", {f.code for f in found})
        self.assertEqual([f.code for f in found if f.code not in WORDS], [])
        page = self.page("/jobs/1/scene")
        for f in found:
            said = WORDS[f.code](f)
            link = page.find("a", string=said.text)
            self.assertEqual(link["href"], f"?{said.query}")  # type: ignore[index]
            rows = self.page(f"/jobs/1/scene?{said.query}").find_all("a", attrs={"data-row": True})
            self.assertTrue(rows or "lights" in said.query, said.query)

    def test_every_view_of_the_scene(self) -> None:
        """Each table by each column, each by one of them both ways: the rows of the service, in
        its order.
        """
        analysis = self.summary().analysis
        for tab, columns in tables.TABLES.items():
            for number, column in enumerate(columns):
                for turned in (False, True) if number == 0 else (number % 2 == 0,):
                    query = f"tab={tab}&sort={column.key}&turned={turned}".lower()
                    page = self.page(f"/jobs/1/scene?{query}")
                    names = [r.name for r in tables.rows(analysis, tab, column.key, turned)]
                    cells = [row.td for row in page.table.tbody.find_all("tr")]
                    shown = [c.a.get_text() if c.a else c.contents[0] for c in cells]
                    self.assertEqual([x.strip() for x in shown], names, query)
        usual = self.page("/jobs/1/scene").table
        for odd in ("tab=nonsense", "sort=nonsense", "shade=nonsense"):
            self.assertEqual(
                str(self.page(f"/jobs/1/scene?{odd}").table.tbody.tr.td),
                str(usual.tbody.tr.td),
            )  # type: ignore[union-attr]

    def test_tables_sort_narrow_and_leave_as_csv(self) -> None:
        def names(query: str) -> list[str]:
            answer = self.client.get(f"/jobs/1/scene.csv?{query}")
            self.assertEqual(answer.status_code, 200)
            return [row[0] for row in csv.reader(io.StringIO(answer.text))][1:]

        every = names("tab=meshes&sort=name")
        self.assertEqual(every, sorted(every))
        self.assertEqual(names("tab=meshes&sort=name&turned=true"), every[::-1])
        self.assertEqual(
            names("tab=meshes&sort=name&q=ROLL"), [n for n in every if "roll" in n.lower()]
        )
        self.assertEqual(names("tab=meshes&q=nothing+like+it"), [])
        with self.home.sessions() as db:
            analysis = db.get_one(SceneVersion, 1).analysis
        for tab, key, field in (
            ("meshes", "triangles", "triangles"),
            ("textures", "file", "file_bytes"),
            ("lights", "power", "power"),
        ):
            values = {r["name"]: r[field] for r in analysis[tab]}
            got = [values[n] for n in names(f"tab={tab}&sort={key}")]
            self.assertEqual((len(got), got), (len(analysis[tab]), sorted(got, reverse=True)))
        text = self.client.get("/jobs/1/scene.csv?tab=meshes").text
        self.assertIn("nearest_m", text.splitlines()[0])
        self.assertEqual(self.client.get("/jobs/1/scene.csv?tab=nothing").status_code, 404)

    def test_csv_is_no_formula(self) -> None:
        row = SimpleNamespace(name="=cmd()", kind="point", power=1.5, size_m=0.0, nearest_m=None)
        lines = list(csv.reader(io.StringIO(as_csv("lights", [row]))))
        self.assertEqual(lines[1], ["'=cmd()", "point", "1.5", "0.0", "", "", ""])

    def test_odd_addresses(self) -> None:
        for path in (
            "/jobs/99/scene",
            "/jobs/1/nowhere",
            "/files/xyz.png",
            "/files/" + "0" * 64 + ".png",
            "/tasks/7/preview.png",
            "/jobs/1/overlap.png",  # not looked at yet
            "/jobs/1/exports/1",
            "/jobs/1/trim?trim=nothing",
        ):
            self.assertEqual(self.client.get(path).status_code, 404, path)
            html = self.client.get(path, headers={"accept": "text/html"})
            self.assertEqual(html.status_code, 404)
            self.assertIn("</h1>", html.text)
        self.page("/jobs/1/trials?crop=1,2&a=99")
        self.page("/jobs/1/trials?crop=1e999,0,0,0")

    def test_the_scene_comes_back_whole(self) -> None:
        answer = self.client.get("/jobs/1/scene.glb")
        self.assertEqual(answer.content, small_demo().read_bytes())
        self.assertIn("v1.glb", answer.headers["content-disposition"])
        self.assertEqual(self.client.get("/jobs/1/scene.glb?version=5").status_code, 404)

    def test_no_page_asks_the_database_much(self) -> None:
        """Not timed here (see bench/page.py): but the queries of a page do not grow."""
        engine = self.home.sessions.kw["bind"]
        for station in STATIONS:
            asked: list[str] = []

            def count(
                c: object, u: object, statement: str, *more: object, asked: list[str] = asked
            ) -> None:
                if not statement.startswith("BEGIN"):
                    asked.append(statement)

            event.listen(engine, "before_cursor_execute", count)
            self.page(f"/jobs/1/{station}")
            event.remove(engine, "before_cursor_execute", count)
            self.assertLess(len(asked), 24, station)

    def test_what_is_kept_of_a_version_is_read_whole(self) -> None:
        with self.home.sessions() as db:
            stored = db.get_one(SceneVersion, 1).analysis
        self.assertEqual(read_analysis(stored).model_dump(mode="json"), stored)


class TestManyThings(WebCase):
    def test_a_scene_of_very_many_objects_has_a_page_all_the_same(self) -> None:
        """The page shows the first of them, and says so; the CSV has all."""
        with self.home.sessions() as db:
            version = db.query(SceneVersion).one()
            kept = dict(version.analysis)
            kept["meshes"] = [{**kept["meshes"][0], "name": f"m {i}"} for i in range(3000)]
            outline = kept["outlines"][0]
            kept["outlines"] = [{**outline, "name": f"o {i}"} for i in range(3000)]
            version.analysis, version.stage = kept, version.stage
            version.created = version.created.replace(year=2001)  # it is read anew
            db.commit()
        page = self.page("/jobs/1/scene")
        table = page.find(attrs={"aria-label": "Table"})
        assert table is not None
        self.assertEqual(len(table.find_all("tr")), 501)
        text = " ".join(page.get_text().split())
        for words in ("3000 of 3000; the first 500 shown", "1500 small objects not drawn"):
            self.assertTrue(words in text, words)
        lines = self.client.get("/jobs/1/scene.csv").text.splitlines()
        self.assertEqual(len(lines), 3001)


class TestRemembered(unittest.TestCase):
    def test_by_identity_and_value(self) -> None:
        made: list[object] = []

        @remembered(2)
        def work(first: list[int], more: int) -> int:
            made.append((first, more))
            return sum(first) + more

        a, b = [1], [1]  # alike, and two
        self.assertEqual([work(a, 1), work(a, 1), work(b, 1), work(a, 2)], [2, 2, 2, 3])
        self.assertEqual(len(made), 3)
        work(a, 1)  # it was forgotten: two are kept
        self.assertEqual(len(made), 4)
