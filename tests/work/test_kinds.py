"""Kinds of task: what each declares, and one from outside the package."""

from __future__ import annotations

import threading
import time
import unittest
from unittest import mock

from sqlalchemy import select

from mill_lane.store.models import StoredFile, Task
from mill_lane.work import queue
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.base import AT_ONCE, Nothing
from mill_lane.work.worker import Worker
from tests.homes import WithHome
from tests.toys.kind import COUNT, Payload


class TestDeclared(unittest.TestCase):
    def test_every_kind_is_typed_and_described(self) -> None:
        for kind in KINDS:
            for part in (kind.payload_type, kind.request_type, kind.result_type):
                self.assertTrue(part.model_json_schema()["type"], kind.name)
            self.assertTrue(type(kind).__doc__)
            self.assertGreater(kind.grace, 0)
            # What has nothing to keep is over within a second, also while a scene is loaded.
            if kind.lane != "compute":
                self.assertLess(kind.patience({}), 0.6, kind.name)
        self.assertLess(KINDS["render"].patience({"phase": "loading"}), 0.6)
        self.assertGreater(KINDS["render"].patience({"phase": "rendering"}), 5)
        self.assertEqual(
            [k.name for k in KINDS if k.gives_way],
            [
                "first_look",
                "live_look",
                "preload",
                "weigh",
                "propose",
                "visible_cost",
                "denoise_later",
            ],
        )
        self.assertEqual([k.name for k in KINDS if k.resumable], ["render"])


class TestFromOutside(WithHome):
    """A kind that the package knows nothing of, with a real child process."""

    def setUp(self) -> None:
        super().setUp()
        self.worker = Worker(self.home)
        self.addCleanup(lambda: self.worker.child and self.worker.child.kill())

    def put(self, payload: Payload) -> int:
        with self.home.sessions() as db:
            number = queue.put(db, COUNT, payload).id
            db.commit()
        return number

    def task(self, number: int) -> Task:
        with self.home.sessions() as db:
            return db.get_one(Task, number)

    def test_it_is_done_and_kept(self) -> None:
        number = self.put(Payload(to=7))
        self.assertTrue(self.worker.one())
        task = self.task(number)
        self.assertEqual((task.state, task.result["total"]), ("done", 7), task.error)
        self.assertEqual(self.home.files.path(task.result["hash"]).read_text(), "7")
        with self.home.sessions() as db:
            self.assertEqual([f.size for f in db.scalars(select(StoredFile))], [1])
        self.assertEqual(list(self.home.scratch.iterdir()), [])
        self.assertFalse(self.worker.one())

    def test_it_tells_and_stops(self) -> None:
        number = self.put(Payload(to=1000, seconds=0.05))
        thread = threading.Thread(target=self.worker.one)
        thread.start()
        for _ in range(400):
            if self.task(number).live.get("number", 0) > 2:
                break
            time.sleep(0.05)
        self.assertIn("at", self.task(number).text)
        for _ in range(400):
            if "left" in self.task(number).live:
                break
            time.sleep(0.05)
        # 1,000 numbers at 0.05 s and more: what is left follows from the pace.
        task = self.task(number)
        self.assertGreater(task.live["left"], 0.05 * 1000 * (1 - task.share) * 0.9)
        self.assertLess(task.live["left"], 0.05 * 1000 * 3)
        with self.home.sessions() as db:
            queue.cancel(db, db.get_one(Task, number))
            db.commit()
        thread.join(20)
        self.assertEqual(self.task(number).state, "cancelled")
        self.assertEqual(list(self.home.scratch.iterdir()), [])

    def test_what_does_not_stop_is_ended(self) -> None:
        """Past its grace the child is killed; the next task gets a new one."""
        number = self.put(Payload(to=3, seconds=30))
        thread = threading.Thread(target=self.worker.one)
        thread.start()
        for _ in range(400):
            if self.task(number).state == "running":
                break
            time.sleep(0.05)
        with self.home.sessions() as db:
            queue.cancel(db, db.get_one(Task, number))
            db.commit()
        thread.join(15)
        self.assertFalse(thread.is_alive())
        self.assertEqual(self.task(number).state, "cancelled")
        self.put(Payload(to=1))
        self.assertTrue(self.worker.one())

    def test_what_takes_no_notice_is_stopped_within_a_second(self) -> None:
        """A file that is being read: between being asked and having stopped."""
        number = self.put(Payload(to=3, seconds=30))
        with mock.patch.object(type(COUNT), "grace", AT_ONCE):
            thread = threading.Thread(target=self.worker.one)
            thread.start()
            self.addCleanup(thread.join, 20)
            for _ in range(400):
                if self.task(number).state == "running" and self.worker.in_hand:
                    break
                time.sleep(0.05)
            with self.home.sessions() as db:
                queue.cancel(db, db.get_one(Task, number))
                db.commit()
            asked = time.monotonic()
            while self.task(number).state == "running" and time.monotonic() < asked + 10:
                time.sleep(0.02)
            self.assertEqual(self.task(number).state, "cancelled")
            self.assertLess(time.monotonic() - asked, 2.0)  # 1 s on an idle machine

    def test_what_no_kind_is_known_for_is_told(self) -> None:
        with self.home.sessions() as db:
            task = queue.put(db, COUNT, Nothing())
            task.kind = "from a later edition"
            db.commit()
            number = task.id
        self.assertTrue(self.worker.one())
        task = self.task(number)
        self.assertEqual(task.state, "failed")
        self.assertIn("from a later edition", task.error["error"])

    def test_a_payload_that_is_wrong_fails_alone(self) -> None:
        with self.home.sessions() as db:
            number = queue.put(db, COUNT, Nothing()).id  # it does not say how far
            db.commit()
        self.assertTrue(self.worker.one())
        self.assertEqual(self.task(number).state, "failed")
        self.put(Payload(to=1))
        self.assertTrue(self.worker.one())
