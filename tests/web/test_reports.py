"""Reports of runs, and runs that meet a full disk, a folder that is gone, a clock set back."""

from __future__ import annotations

import errno
import shutil
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest.mock import patch

from sqlalchemy import select

from mill_lane.core.progress import Cancelled
from mill_lane.jobs import trims
from mill_lane.store.models import Render, SceneVersion, Task, now
from mill_lane.work.ending import conclude
from mill_lane.work.failures import memory_full
from mill_lane.work.kinds.base import Context
from mill_lane.work.kinds.render import RENDER
from tests.homes import Quiet, do_tasks, weighed
from tests.web.test_nights import PAGE, NightCase


class TestReportOfTrims(NightCase):
    made = staticmethod(weighed)

    def test_crops_before_and_after(self) -> None:
        """What a change did to the picture stands in the report, once it is in the scene."""
        page = self.page("/jobs/1/trim?trim=strong_lights")
        table = page.find("div", attrs={"aria-label": "Proposals"})
        box = table.select_one("input[name='targets']")  # type: ignore[union-attr]
        key = str(box["value"])  # type: ignore[index]
        one = {"trim": "strong_lights", "target": key}
        self.done("POST", "/api/jobs/1/trim-list", json=one | {"targets": [key]})
        self.done("POST", "/api/jobs/1/visible-costs", json=one)
        do_tasks(self.home, "visible_cost")
        with self.home.sessions() as db:
            self.assertEqual(len(trims.staged(db, db.scalars(select(SceneVersion)).one())), 1)
        self.done("POST", "/api/jobs/1/trim", json={})
        self.assertEqual(do_tasks(self.home, "trim"), 1)
        self.begin(frames="1")
        self.render()
        report = self.page("/jobs/1/finish/report?run=1")
        text = " ".join(report.get_text().split())
        self.assertIn("What that does to the picture", text)
        self.assertRegex(text, "(less|more) than the grain")
        crops = [str(i["src"]) for i in report.select("figure img[src*='/crops/']")]
        self.assertEqual(len(crops), 2)
        for address in crops:
            self.assertEqual(self.client.get(address).status_code, 200)
        self.assertIn("Memory free on it, the least", text)


class TestReport(NightCase):
    def test_rendered_in_parts(self) -> None:
        """What the parts add up to is told with the run and in its report."""
        run = self.begin(frames="1-2", order="straight", rungs=["parts"])
        with self.home.sessions.begin() as db:
            task = db.scalars(select(Task).where(Task.kind == "render")).one()
            conclude(Context(db, self.home, task), RENDER, "failed", memory_full(), {})
        self.assertGreaterEqual(len(self.settings(run)["means"]["parts"]), 2)
        self.render()
        self.assertEqual(self.settings(run)["state"], "done")
        for text in (self.text(), self.page("/jobs/1/finish/report?run=1").get_text()):
            self.assertRegex(" ".join(text.split()), r"parts add(ed)? up to [+-]0\.\d+ ?% of light")
        with self.home.sessions() as db:
            rows = list(db.scalars(select(Render).where(Render.group_id == run, ~Render.removed)))
        told = [r for r in rows if "parts" in r.measured]
        self.assertEqual((len(rows), len(told)), (2, 1))  # compared once


class Waiting(Quiet):
    """A report that mends what is waited for, the second time that somebody waits."""

    def __init__(self, mend: Any) -> None:
        super().__init__()
        self.mend, self.waited = mend, []

    def wait_for_room(self, share: float, why: str = "the disk is full") -> None:
        """Note why, and mend it."""
        self.waited.append(why)
        if len(self.waited) >= 2:
            self.mend()


class TestHindered(NightCase):
    def render_with(self, report: Quiet) -> None:
        with patch("tests.homes.Quiet", lambda: report):
            self.assertEqual(do_tasks(self.home, "render"), 1)

    def test_a_full_disk(self) -> None:
        """It waits, says why, and goes on when there is room: the frame is whole."""
        full = [True]

        def refuse(path: Path, *more: object) -> None:
            if full[0]:
                raise OSError(errno.ENOSPC, "No space left on device", str(path))
            real(path, *more)  # type: ignore[arg-type]

        from mill_lane.core.plan import frame_output

        real = frame_output.write_whole
        self.begin(frames="1")
        report = Waiting(lambda: full.clear() or full.append(False))
        with patch.object(frame_output, "write_whole", refuse):
            self.render_with(report)
        self.assertEqual(report.waited, ["the disk is full"] * 2)
        self.assertTrue((self.out / "n/s.0001.exr").exists())

    def test_a_folder_that_is_gone(self) -> None:
        """A file in its place is told; taken away, the frame is written."""
        self.begin(frames="1-2", order="straight")
        self.render(1)
        shutil.rmtree(self.out / "n")
        (self.out / "n").write_text("a network folder that is not mounted")
        report = Waiting((self.out / "n").unlink)
        self.render_with(report)
        self.assertEqual(len(report.waited), 2)
        self.assertIn("cannot be made", report.waited[0])
        self.assertTrue((self.out / "n/s.0002.exr").exists())

    def test_stopped_while_it_waits(self) -> None:
        """The frame is kept here, and it is said that its files are missing."""

        class Stopping(Quiet):
            def wait_for_room(self, share: float, why: str = "") -> None:
                raise Cancelled

        run = self.begin(frames="1")
        self.out.mkdir(parents=True, exist_ok=True)
        (self.out / "n").touch()
        self.render_with(Stopping())
        with self.home.sessions() as db:
            row = db.scalars(select(Render).where(Render.group_id == run)).one()
        self.assertIn("cannot be made", row.measured["not_written"])
        self.assertTrue(row.picture)

    def test_a_clock_that_is_set_back(self) -> None:
        """Times of frames are measured by a clock that only goes forward."""
        run = self.begin(frames="1-2", order="straight")
        self.render(1)
        with patch("mill_lane.work.queue.now", lambda: now() - timedelta(hours=3)):
            self.render(1)
        with self.home.sessions() as db:
            rows = list(db.scalars(select(Render).where(Render.group_id == run)))
            ended = [t.finished for t in db.scalars(select(Task).where(Task.kind == "render"))]
        self.assertLess(ended[1], ended[0])  # by the clock on the wall
        self.assertTrue(all(r.measured["whole_seconds"] > 0 for r in rows))
        self.assertEqual(self.settings(run)["state"], "done")
        self.page(PAGE)
