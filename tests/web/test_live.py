"""The look that runs: the newest wish is shown, it goes on after a kill, what is seen is frozen."""

from __future__ import annotations

import io
import json
import os
import signal
import threading
import time
from typing import Any

import numpy as np
from PIL import Image
from sqlalchemy import select

from mill_lane.jobs.live import files_of
from mill_lane.store.models import Render, Task
from mill_lane.work.kinds.live_look import LIVE_LOOK
from mill_lane.work.worker import Worker
from tests.web.case import WebCase

SMALL = {"width": 160, "height": 90, "bounces": 1}
LOOK = "/api/jobs/1/live"
PATIENCE = 60.0


class LiveCase(WebCase):
    """A worker of the lane of looks beside the server."""

    def setUp(self) -> None:
        super().setUp()
        self.worker = Worker(self.home, lane="live")
        self.ended = threading.Event()
        self.thread = threading.Thread(target=self._serve, daemon=True)
        self.thread.start()
        self.addCleanup(self._end)

    def _serve(self) -> None:
        while not self.ended.is_set():
            if not self.worker.one():
                time.sleep(0.02)

    def _end(self) -> None:
        files_of(self.home, 1).wish.unlink(missing_ok=True)
        self.ended.set()
        self.thread.join(30)
        for child in (self.worker.child, self.worker.apart):
            if child is not None:
                child.kill()

    def look(self, **more: Any) -> str:
        return str(self.done("POST", LOOK, json=SMALL | more)["number"])

    def seen(self, after: str = "") -> tuple[dict[str, Any], bytes]:
        answer = self.client.get(f"/jobs/1/live?after={after}")
        self.assertEqual(answer.status_code, 200)
        return json.loads(answer.headers["Look"]), answer.content

    def until(self, number: str, samples: float = 0.0, phase: str = "") -> tuple[Any, Image.Image]:
        """The first picture of a wish with so many samples."""
        end, stamp = time.monotonic() + PATIENCE, ""
        while time.monotonic() < end:
            said, data = self.seen(stamp)
            stamp = said["stamp"]
            right = said.get("number") == number and data
            if right and said["samples"] >= samples and phase in ("", said["phase"]):
                return said, Image.open(io.BytesIO(data)).convert("RGB")
        self.fail(f"nothing of it in {PATIENCE:.0f} s; said last: {said}")

    def tasks(self) -> list[Task]:
        with self.home.sessions() as db:
            return list(db.scalars(select(Task).where(Task.kind == LIVE_LOOK.name)))


class TestLiveLook(LiveCase):
    def test_it_sharpens_and_begins_anew(self) -> None:
        first = self.look()
        said, picture = self.until(first)
        self.assertIn(picture.size, ((80, 45), (160, 90)))  # coarse ones have fewer pixels
        said, picture = self.until(first, samples=2.0)
        self.assertEqual(picture.size, (160, 90))
        self.assertIn("samples", said["words"])
        crop = self.look(crop="0.25,0.25,0.75,0.75")
        _, picture = self.until(crop, samples=1.0)
        self.assertEqual(picture.size, (80, 46))
        other = self.look(layer="albedo", clean=True)
        said, albedo = self.until(other, samples=1.0)
        self.assertEqual((said["layer"], albedo.size), ("albedo", (160, 90)))
        self.until(self.look(clean=True), samples=2.5)
        # Brighter, and how bright it is: the same samples, drawn again.
        plain, own = self.until(self.look(), samples=2.0)
        said, dark = self.until(self.look(stops=-4), samples=2.0)
        self.assertLess(np.asarray(dark).mean(), np.asarray(own).mean() - 5)
        self.assertGreaterEqual(said["samples"], plain["samples"])
        said, _ = self.until(self.look(layer="stops", stops=1), samples=2.0)
        self.assertNotIn("colours", said["words"])  # the page has its scale
        page = self.page("/jobs/1/trials?layer=stops&stops=1")
        self.assertIsNotNone(page.select_one("[aria-label='Scale from -6 to 6 stops']"))
        said, _ = self.until(self.look(layer="depth"), samples=2.0)
        self.assertRegex(said["words"], r"colours from 0 to \d+ m")
        # It is for looking: recipe, trial book and scene are as they were.
        with self.home.sessions() as db:
            self.assertEqual(list(db.scalars(select(Render))), [])
        self.assertEqual(self.client.get("/jobs/1/trials?role=draft").status_code, 200)

    def test_it_ends_by_itself_and_goes_on_where_it_was(self) -> None:
        held = self.look()
        said, _ = self.until(held, samples=3.0)
        number = self.look(paused=True)
        said, _ = self.until(number, phase="paused")
        while any(t.state != "done" for t in self.tasks()):
            time.sleep(0.02)
        self.assertIn("held", said["words"])
        again, _ = self.until(self.look())
        self.assertGreaterEqual(again["samples"], said["samples"])  # nothing was lost
        files_of(self.home, 1).seen.unlink()
        end = time.monotonic() + PATIENCE
        while any(t.state != "done" for t in self.tasks()) and time.monotonic() < end:
            time.sleep(0.02)
        self.assertEqual([t.result["why"] for t in self.tasks()], ["left alone"])

    def test_a_storm_of_wishes(self) -> None:
        """200 changes: the newest is what is shown, one task did it, none is left over."""
        began = time.monotonic()
        for n in range(200):
            number = self.look(radiance_limit_indirect=n / 10, crop="0,0,0.5,0.5")
        self.assertLess(time.monotonic() - began, 20)
        self.until(number, samples=1.0)
        self.assertLessEqual(len(self.tasks()), 2)
        wish = files_of(self.home, 1).wanted()
        assert wish is not None
        self.assertEqual((str(wish.number), wish.recipe.radiance_limit_indirect), (number, 19.9))
        self.look(paused=True)
        end = time.monotonic() + PATIENCE
        while any(not t.over for t in self.tasks()) and time.monotonic() < end:
            time.sleep(0.02)
        self.assertEqual([t.state for t in self.tasks()], ["done"])

    def test_a_killed_child(self) -> None:
        number = self.look()
        self.until(number, samples=1.0)
        assert self.worker.child is not None
        before = self.worker.child.process.pid
        os.kill(before, signal.SIGKILL)
        stamp = files_of(self.home, 1).stamp()
        end = time.monotonic() + PATIENCE
        while files_of(self.home, 1).stamp() == stamp and time.monotonic() < end:
            self.seen(stamp)
        self.until(number, samples=1.0)
        self.assertNotEqual(self.worker.child.process.pid, before)

    def test_freeze(self) -> None:
        """What is on the screen becomes a trial, while the look goes on."""
        crop = "0.25,0.25,0.75,0.75"
        number = self.look(crop=crop, hide=["shadows"], exposure=1.0)
        said, _ = self.until(number, samples=2.0)
        self.done("POST", f"{LOOK}/freeze", json={"note": "as it should be"})
        # It gives way to the trial, whose time counts, and goes on afterwards.
        compute = Worker(self.home, lane="compute")
        self.addCleanup(lambda: compute.child and compute.child.kill())
        end = time.monotonic() + PATIENCE
        while not compute.one() and time.monotonic() < end:
            time.sleep(0.02)
        wish = files_of(self.home, 1).wanted()
        assert wish is not None
        after, _ = self.until(str(wish.number), samples=2.0)
        with self.home.sessions() as db:
            trial = db.scalars(select(Render)).one()
            self.assertEqual((trial.note, trial.region), ("as it should be", [40, 22, 120, 68]))
            self.assertEqual((trial.preview, trial.recipe["exposure"]), ({"shadows": False}, 1.0))
            self.assertGreaterEqual(trial.measured["samples_mean"], said["samples"])
            self.assertEqual(trial.measured["ended_by"], "hand")
            self.assertTrue(trial.measured["resumed"])
            self.assertLessEqual(
                {"albedo", "components", "half_a"} - set(trial.layers), {"components"}
            )
        self.assertEqual(list(self.home.looks.glob("*.state*")), [])
        self.assertGreaterEqual(after["samples"], said["samples"])
        self.assertEqual(list(self.home.looks.glob("*.state*")), [])  # not saved once more
        self.assertRegex(
            self.page("/jobs/1/trials").get_text(" "), r"stopped by hand, [\d.]+ samples"
        )


class TestWishes(WebCase):
    def test_what_cannot_be_looked_at_is_told(self) -> None:
        for bad, word in (
            ({"samples": 0}, "Samples"),
            ({"layer": "shine"}, "shine"),
            ({"crop": "5,5,6,6"}, "crop"),
            ({"only_component": "sparkle"}, "sparkle"),
            ({"frame": 9999}, "9999"),
        ):
            problem = self.refused("POST", LOOK, json=SMALL | bad)
            self.assertIn(word, problem["error"])
        self.assertIsNone(files_of(self.home, 1).wanted())
        self.refused("POST", f"{LOOK}/freeze", json={"note": ""})
        said = json.loads(self.client.get("/jobs/1/live?after=1").headers["Look"])
        self.assertFalse(said["same"])

    def test_one_look_at_a_time(self) -> None:
        """Another job's look stops where one is wanted here; what is over is not kept."""
        for _ in range(3):
            self.done("POST", LOOK, json=SMALL)
        with self.home.sessions() as db:
            tasks = list(db.scalars(select(Task).where(Task.kind == LIVE_LOOK.name)))
            self.assertEqual([(t.state, t.job_id) for t in tasks], [("queued", 1)])
            tasks[0].job_id = None
            db.commit()
        self.done("POST", LOOK, json=SMALL)
        with self.home.sessions() as db:
            tasks = list(db.scalars(select(Task).where(Task.kind == LIVE_LOOK.name)))
            self.assertEqual([(t.state, t.job_id) for t in tasks], [("queued", 1)])
