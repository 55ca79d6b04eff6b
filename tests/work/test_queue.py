"""The queue: claimed once, first things first, nothing lost when a worker dies."""

from __future__ import annotations

import signal
import threading
import time
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.store.models import DeviceRow, Job, Task
from mill_lane.work import queue
from mill_lane.work.failures import died
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.base import Nothing
from mill_lane.work.kinds.first_look import FIRST_LOOK
from mill_lane.work.kinds.open import OPEN
from mill_lane.work.kinds.prepare import PREPARE
from mill_lane.work.kinds.render import RENDER
from mill_lane.work.kinds.weigh import WEIGH, Payload
from tests.homes import WithHome


class TestQueue(WithHome):
    def put(self, db: Session) -> Task:
        return queue.put(db, PREPARE, Nothing())

    def jobs(self, db: Session, count: int) -> list[Job]:
        device = DeviceRow(data={})
        db.add(device)
        db.flush()
        jobs = [Job(name=f"job {k}", device_id=device.id) for k in range(count)]
        db.add_all(jobs)
        db.flush()
        return jobs

    def test_each_task_is_claimed_once(self) -> None:
        with self.home.sessions() as db:
            for _ in range(20):
                self.put(db)
            db.commit()
        claimed: list[int] = []

        def work() -> None:
            with self.home.sessions() as db:
                while (task := queue.claim(db, KINDS)) is not None:
                    claimed.append(task.id)

        threads = [threading.Thread(target=work) for _ in range(4)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        self.assertEqual(sorted(claimed), list(range(1, 21)))

    def test_what_gives_way_goes_last(self) -> None:
        """By what the kinds declare: the patient one waits, whenever it was put in."""
        with self.home.sessions() as db:
            patient = queue.put(db, WEIGH, Payload(version=1))
            self.assertFalse(queue.somebody_waits(db, KINDS))
            other = self.put(db)
            self.assertTrue(queue.somebody_waits(db, KINDS))
            db.commit()
            order = [queue.claim(db, KINDS), queue.claim(db, KINDS), queue.claim(db, KINDS)]
            self.assertEqual([t.id if t else None for t in order], [other.id, patient.id, None])

    def test_the_job_that_is_looked_at_goes_first(self) -> None:
        """Its look, then its weighing, before the looks of all others; what an artist asks for goes
        before either.
        """
        with self.home.sessions() as db:
            jobs = self.jobs(db, 4)
            looks = [queue.put(db, FIRST_LOOK, Nothing(), j.id).id for j in jobs]
            weighs = [queue.put(db, WEIGH, Payload(version=1), j.id).id for j in jobs]
            jobs[2].looked_at = time.time()
            db.commit()
            taken = []
            for _ in range(8):
                task = queue.claim(db, KINDS, "looks") or queue.claim(db, KINDS, "compute")
                assert task is not None, taken
                taken.append(task.id)
                queue.end(db, task, "done")
                db.commit()
            others = [looks[k] for k in (0, 1, 3)] + [weighs[k] for k in (0, 1, 3)]
            self.assertEqual(taken, [looks[2], weighs[2], *others])

    def test_what_runs_for_another_job_gives_way(self) -> None:
        """To what could begin at once for the job that was looked at since; to nothing else."""
        with self.home.sessions() as db:
            jobs = self.jobs(db, 2)
            weigh, look = (
                queue.put(db, kind, payload, jobs[0].id)
                for kind, payload in ((WEIGH, Payload(version=1)), (FIRST_LOOK, Nothing()))
            )
            weigh.state = look.state = "running"
            jobs[0].looked_at = time.time()
            db.commit()

            def gives_way() -> list[bool]:
                running = ((weigh, "compute"), (look, "looks"))
                return [queue.goes_before(db, KINDS, t.id, lane) for t, lane in running]

            queue.put(db, WEIGH, Payload(version=2), jobs[0].id)  # its own job's
            theirs = queue.put(db, FIRST_LOOK, Nothing(), jobs[1].id)
            after = queue.put(db, WEIGH, Payload(version=3), jobs[1].id)
            self.assertEqual(gives_way(), [False, False])
            jobs[1].looked_at = time.time() + 1
            # Their weighing waits for their look: nothing could begin in its place.
            self.assertEqual(gives_way(), [False, True])
            queue.end(db, theirs, "done")
            queue.end(db, look, "done")
            self.assertEqual(gives_way()[0], True)
            queue.end(db, after, "done")
            self.assertEqual(gives_way()[0], False)

    def test_put_first_by_hand(self) -> None:
        with self.home.sessions() as db:
            tasks = [self.put(db) for _ in range(4)]
            queue.put_first(db, tasks[2])
            db.commit()
            wanted = [tasks[k].id for k in (2, 0, 1, 3)]
            taken = []
            while (task := queue.claim(db, KINDS)) is not None:
                taken.append(task.id)
                queue.end(db, task, "done")
                db.commit()
            self.assertEqual(taken, wanted)

    def test_lanes_are_apart(self) -> None:
        with self.home.sessions() as db:
            task = self.put(db)
            db.commit()
            self.assertIsNone(queue.claim(db, KINDS, lane="somewhere else"))
            found = queue.claim(db, KINDS)
            self.assertEqual(found.id if found else None, task.id)

    def test_what_runs_beside_what(self) -> None:
        """Files and looks run beside compiling and weighing; what is measured runs alone."""
        with self.home.sessions() as db:

            def put(kind: Any) -> int:
                number = queue.put(db, kind, Nothing()).id
                db.commit()
                return number

            def taken(lane: str) -> int | None:
                task = queue.claim(db, KINDS, lane)
                return task.id if task else None

            def ended(number: int) -> None:
                queue.end(db, db.get_one(Task, number), "done")
                db.commit()

            compute, files, looks, _, _ = queue.LANES
            compiling, opening, look = put(PREPARE), put(OPEN), put(FIRST_LOOK)
            self.assertEqual((taken(compute), taken(files)), (compiling, opening))
            self.assertIsNone(taken(looks))  # its kernels are not there yet
            ended(compiling)
            self.assertEqual(taken(looks), look)
            weighing, render, later = put(WEIGH), put(RENDER), put(OPEN)
            self.assertIsNone(taken(compute))  # a look and a file are in hand
            ended(opening)
            self.assertIsNone(taken(files))  # the render has waited longer than the last file
            ended(look)
            self.assertEqual(taken(compute), render)
            self.assertIsNone(taken(files))
            self.assertIsNone(taken(looks))
            ended(render)
            self.assertEqual((taken(files), taken(compute)), (later, weighing))

    def test_orphans_go_back_and_in_the_end_fail(self) -> None:
        with self.home.sessions() as db:
            self.put(db)
            db.commit()
            for attempt in range(1, queue.MOST_ATTEMPTS + 1):
                task = queue.claim(db, KINDS)
                assert task is not None
                self.assertEqual(task.attempts, attempt)
                self.assertEqual(queue.recover(db), [])  # its lease still holds
                task.lease = time.time() - 1
                db.commit()
                self.assertEqual(queue.recover(db), [task.id])
            self.assertEqual(task.state, "failed")
            self.assertTrue(task.error["hint"])
            queue.retry(db, task)
            self.assertEqual((task.state, task.attempts, task.error), ("queued", 0, {}))

    def test_cancelling(self) -> None:
        with self.home.sessions() as db:
            waiting, running = self.put(db), self.put(db)
            queue.cancel(db, waiting)
            self.assertEqual(waiting.state, "cancelled")
            db.commit()
            task = queue.claim(db, KINDS)
            assert task is not None
            self.assertEqual(task.id, running.id)
            self.assertEqual(queue.beat(db, task.id, share=0.5), (False, {}))
            queue.cancel(db, task)
            db.commit()
            self.assertTrue(queue.beat(db, task.id)[0])
            # A worker that died before it could stop: what was to be cancelled is not begun again.
            queue.recover(db, everything=True)
            db.refresh(task)
            self.assertEqual(task.state, "cancelled")

    def test_wishes(self) -> None:
        """Only what is paused goes on; stopping what is paused takes it up to keep its picture."""
        with self.home.sessions() as db:
            over, paused = self.put(db), self.put(db)
            queue.cancel(db, over)
            queue.want(db, over, pause=False)
            self.assertEqual(over.state, "cancelled")
            paused.state = "paused"
            queue.want(db, paused, priority=[3, 4])
            self.assertEqual((paused.state, paused.wants), ("paused", {"priority": [3, 4]}))
            queue.cancel(db, paused)
            self.assertEqual((paused.state, paused.wants), ("queued", {"finish": True}))
            paused.state = "paused"
            queue.want(db, paused, pause=False)
            self.assertEqual(paused.state, "queued")

    def test_words_for_a_killed_process(self) -> None:
        self.assertIn("SIGKILL", died(-signal.SIGKILL)["error"])
        self.assertNotEqual(died(1)["error"], died(-signal.SIGKILL)["error"])
        self.assertTrue(died(1)["hint"] and died(1)["kept"])
