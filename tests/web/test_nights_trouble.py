"""Runs of frames that fail, look wrong, are long, and what is handed over of them."""

from __future__ import annotations

import io
import zipfile

import av
from PIL import Image
from sqlalchemy import select

from mill_lane.core.formats.exr import read_exr
from mill_lane.core.recipe import DENOISE_LAYERS
from mill_lane.core.render.layers import exr_names
from mill_lane.store.models import Render, RenderGroup, Task
from mill_lane.work import queue
from mill_lane.work.ending import conclude
from mill_lane.work.failures import died, memory_full
from mill_lane.work.kinds.base import Context
from mill_lane.work.kinds.render import RENDER
from mill_lane.work.runs import MOST_TRIES
from mill_lane.work.worker import Worker
from tests.homes import do_tasks
from tests.web.test_nights import PAGE, NightCase


class TestTrouble(NightCase):
    def test_memory_that_fails(self) -> None:
        """Rung by rung, as far as the sheet allows; the picture stays the same, and it is said."""
        layers = ["albedo", "components"]
        self.done("PUT", "/api/jobs/1/recipes/final", json={"denoise": "with", "layers": layers})
        run = self.begin(frames="1-2", order="straight", rungs=["denoise_later", "fewer_layers"])
        self.render(1)
        full = memory_full()
        for rung, denoise in ((1, "later"), (2, "later")):
            self.fail_first(full)
            settings = self.settings(run)
            self.assertEqual((settings["state"], settings["left"]), ("running", []))
            self.assertEqual(
                (len(settings["less"]), settings["recipe"]["denoise"]), (rung, denoise)
            )
        self.assertEqual(set(self.settings(run)["recipe"]["layers"]), set(DENOISE_LAYERS))
        self.fail_first(full)  # nothing is left to give
        self.assertIn("it failed", self.text())
        self.done("POST", f"/api/nights/{run}/go-on", json={})
        self.render()
        text = self.text()
        self.assertIn("it went on with less", text)
        self.assertIn("2 of 2 frames", text)
        first, second = (read_exr(self.out / f"n/s.{n:04d}.exr", exr_names()) for n in (1, 2))
        self.assertIn("indirect_diffuse", first)
        self.assertNotIn("indirect_diffuse", second)
        self.assertIn("half_a", second)
        again = self.begin(frames="1", rungs=[], there="overwrite")
        self.fail_first(full)
        self.assertEqual(self.settings(again)["less"], [])

    def test_a_frame_that_fails(self) -> None:
        """It is told, the run goes on, and it is tried again at the end; or it stops the run."""
        for trouble, state in (("go on", "running"), ("stop", "stopped")):
            run = self.begin(frames="1-3", order="straight", trouble=trouble, there="overwrite")
            self.fail_first()
            self.assertEqual(self.settings(run)["state"], state)
            self.render()
            self.assertIn("it failed", self.text())
            self.done("POST", f"/api/nights/{run}/go-on", json={})
            self.render()
            self.assertEqual(self.settings(run)["state"], "done")
            self.assertIn("3 of 3 frames", self.text())

    def test_a_frame_that_is_killed(self) -> None:
        """It is tried again after all others, by itself; killed without end, the run ends."""
        run = self.begin(frames="1-3", order="straight", rungs=[])
        told = died(-9)
        self.fail_first(told)
        self.assertEqual(self.settings(run)["left"], [3, 1])
        self.render()
        self.assertEqual(self.settings(run)["state"], "done")
        self.assertIn("3 of 3 frames", self.text())
        run = self.begin(frames="1", there="overwrite", rungs=[])
        for _ in range(MOST_TRIES + 1):
            self.fail_first(told)
        self.assertEqual(self.render(), 0)
        self.assertIn("it failed", self.text())

    def test_killed_until_it_is_given_up(self) -> None:
        """A worker that starts and finds a frame killed too often lets the run go on."""
        run = self.begin(frames="1-2", order="straight", rungs=[])
        with self.home.sessions.begin() as db:
            task = db.scalars(select(Task).where(Task.kind == "render")).one()
            task.state, task.attempts = "running", queue.MOST_ATTEMPTS
        Worker(self.home)._take_up()
        self.assertEqual(
            (self.settings(run)["state"], self.settings(run)["left"]), ("running", [1])
        )
        self.render()
        self.assertEqual(self.settings(run)["state"], "done")

    def fail_first(self, told: dict | None = None) -> None:
        """End the waiting frame's task as a failure would."""
        with self.home.sessions.begin() as db:
            task = db.scalars(
                select(Task).where(Task.state == "queued", Task.kind == "render")
            ).one()
            context = Context(db, self.home, task)
            told = told or {"error": "It broke.", "hint": "Try again."}
            conclude(context, RENDER, "failed", told, {})

    def test_trouble_is_marked(self) -> None:
        run = self.begin(frames="1-6", order="straight", trouble="stop")
        self.render(4)
        with self.home.sessions.begin() as db:  # as if the frames so far had been bright
            for row in db.scalars(select(Render).where(Render.picture.is_not(None))):
                row.measured = row.measured | {"mean_luminance": 50.0}
        self.render(1)
        self.assertEqual(self.settings(run)["state"], "stopped")
        text = self.text()
        self.assertIn("darker than the frames beside it", text)
        self.assertIn("Look at these", text)
        with self.home.sessions() as db:
            row = db.scalars(select(Render).where(Render.frame == 5)).one()
        self.text("?frame=5")
        self.done("POST", f"/api/frames/{row.id}/again", json={})
        self.assertEqual(self.settings(run)["left"], [5, 6])
        self.refused("POST", f"/api/frames/{row.id}/again", 404, json={})

    def test_film_sheet_and_report(self) -> None:
        """A film that can be read, of as many frames; a sheet; the report's figures."""
        run = self.begin(frames="1-5", png=True)
        self.render()
        ask = f"/api/nights/{run}/deliver"
        for what in ("film.mp4", "film.webm", "sheet.png", "frames.zip"):
            self.done("POST", ask, json={"what": what, "rate": "12"})
        self.refused("POST", ask, json={"what": "film.mp4", "rate": 0})
        self.refused("POST", ask, json={"what": "film.exe"})
        self.assertEqual(do_tasks(self.home, "deliver"), 4)
        links = [str(a["href"]) for a in self.page(PAGE).select("a[href^='/deliveries/']")]
        self.assertEqual(len(links), 4)
        kinds = []
        for link in links:
            answer = self.client.get(link)
            kinds.append(answer.headers["content-type"])
            if kinds[-1] == "image/png":
                sheet = Image.open(io.BytesIO(answer.content))
                self.assertGreater(sheet.width, 2 * 48)
                continue
            if kinds[-1] == "application/zip":
                with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
                    self.assertIsNone(archive.testzip())
                    self.assertEqual(len(archive.namelist()), 10)
                    whole = (self.out / "n/s.0003.exr").read_bytes()
                    self.assertEqual(archive.read("n/s.0003.exr"), whole)
                continue
            with av.open(io.BytesIO(answer.content)) as film:
                stream = film.streams.video[0]
                self.assertEqual(sum(1 for _ in film.decode(stream)), 5)
                self.assertEqual((stream.width, stream.height), (48, 26))
                self.assertEqual(stream.average_rate, 12)
        self.assertEqual(sorted(kinds), ["application/zip", "image/png", "video/mp4", "video/webm"])
        text = " ".join(self.page("/jobs/1/finish/report?run=1").get_text().split())
        for words in ("5 of 5 frames: 1-5", "48 × 27", "at most 2 samples", "as it was opened"):
            self.assertIn(words, text)
        self.assertEqual(self.client.get("/jobs/1/finish/report?run=9").status_code, 404)
        self.assertEqual(self.client.get("/deliveries/1").status_code, 404)

    def test_a_long_run_is_quick_to_look_at(self) -> None:
        """Two thousand frames: what is drawn stays small."""
        run = self.begin(frames="1")
        with self.home.sessions.begin() as db:
            group = db.get_one(RenderGroup, run)
            first = db.scalars(select(Render).where(Render.group_id == run)).one()
            group.settings = group.settings | {"every": list(range(1, 2001))}
            layers = {"thumbnail": {"hash": "0" * 64}}
            for n in range(2, 2001):
                db.add(
                    Render(
                        job_id=1,
                        kind="frame",
                        number=n + 1,
                        version_id=first.version_id,
                        group_id=run,
                        recipe=first.recipe,
                        region=first.region,
                        frame=n,
                        device=first.device,
                        picture="0" * 64,
                        layers=layers,
                        measured={"whole_seconds": 3.0, "mean_luminance": 0.2},
                    )
                )
        page = self.page(PAGE + "?at=1800")
        self.assertEqual(len(page.select("a img[alt^='Frame ']")), 60)
        bars = page.select("svg rect[class^='bar-']")
        self.assertEqual(len(bars), 400)  # five frames each
        self.assertEqual([b["class"] for b in bars].count(["bar-done"]), 399)
        self.assertIn("1999 of 2000 frames", " ".join(page.get_text().split()))
        self.page("/jobs/1/finish")
