"""The queue as a page: what runs and waits, put first by hand, and by looking at a job."""

from __future__ import annotations

from mill_lane.jobs.recipes import add_recipes
from mill_lane.store.models import Job, Task
from mill_lane.work import queue
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.first_look import FIRST_LOOK, Payload
from tests.web.case import WebCase


class TestQueuePage(WebCase):
    def setUp(self) -> None:
        super().setUp()
        with self.home.sessions.begin() as db:
            for task in db.query(Task):
                task.state = "done"
            first = db.get_one(Job, 1)
            version = first.version_id
            for k in range(2, 4):
                job = Job(id=k, name=f"job {k}", device_id=first.device_id, version_id=version)
                db.add(job)
                db.flush()
                add_recipes(db, job)
            look = Payload(version=version or 0)
            self.tasks = [queue.put(db, FIRST_LOOK, look, k).id for k in (1, 2, 3)]

    def listed(self) -> list[str]:
        return [r.get_text() for r in self.page("/queue").select("tbody tr")]

    def names(self) -> list[str]:
        rows = self.page("/queue").select("tbody tr")
        return [str(r.select("td")[1].get_text()).strip() for r in rows]

    def test_seen_and_put_in_another_order(self) -> None:
        self.assertEqual(self.names()[1:], ["job 2", "job 3"])
        self.assertTrue(all("first look" in r for r in self.listed()))
        self.done("POST", f"/api/tasks/{self.tasks[2]}/first", json={})
        self.assertEqual(self.names()[0], "job 3")
        with self.home.sessions() as db:
            task = queue.claim(db, KINDS, "looks")
            self.assertEqual(task and task.id, self.tasks[2])
        self.refused("POST", f"/api/tasks/{self.tasks[2]}/first", json={})
        self.refused("POST", "/api/tasks/999/first", 404, json={})
        for task in self.tasks:
            self.done("POST", f"/api/tasks/{task}/cancel", json={})

    def test_whoever_looks_at_a_job_puts_it_first(self) -> None:
        self.page("/jobs/1/scene")
        with self.home.sessions() as db:
            before = db.get_one(Job, 1).looked_at
        self.assertGreater(before, 0)
        self.page("/jobs/1/fit")  # nothing is written while one job is looked at
        with self.home.sessions() as db:
            self.assertEqual(db.get_one(Job, 1).looked_at, before)
        self.page("/jobs/3/machine")
        self.assertEqual(self.names()[0], "job 3")
        self.page("/jobs/2/machine")
        self.assertEqual(self.names()[:2], ["job 2", "job 3"])
