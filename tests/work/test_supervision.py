"""Work goes on: a worker that is killed comes back, and what cannot be written now is written
later.
"""

from __future__ import annotations

import errno
import os
import signal
import sqlite3
import threading
import time
from collections.abc import Callable
from typing import Any
from unittest import mock

from sqlalchemy.exc import OperationalError

from mill_lane.store.models import Task
from mill_lane.work import keeping, queue, supervisor, worker
from mill_lane.work.keeping import hindrance
from mill_lane.work.signs import Sign, Signs
from mill_lane.work.supervisor import Supervisor
from mill_lane.work.worker import Worker
from tests.homes import WithHome
from tests.toys.kind import COUNT, Payload

FULL = OSError(errno.ENOSPC, "No space left on device")


def locked() -> OperationalError:
    return OperationalError("x", {}, sqlite3.OperationalError("database is locked"))


class Waiting(WithHome):
    def until(self, ready: Callable[[], object], seconds: float = 60) -> None:
        end = time.monotonic() + seconds
        while not ready():
            self.assertLess(time.monotonic(), end, "it takes too long")
            time.sleep(0.05)

    def put(self, payload: Payload) -> int:
        with self.home.sessions() as db:
            number = queue.put(db, COUNT, payload).id
            db.commit()
        return number

    def task(self, number: int) -> Task:
        with self.home.sessions() as db:
            return db.get_one(Task, number)


class TestSupervisor(Waiting):
    def setUp(self) -> None:
        super().setUp()
        self.supervisor = Supervisor(self.home.folder)
        self.addCleanup(self.supervisor.stop)

    def begun(self) -> int:
        """Start it; returns the worker's process."""
        self.supervisor.start()
        self.until(lambda: self.supervisor.watch().sign.doing == "idle")
        pid = self.supervisor.watch().pid
        assert pid is not None
        return pid

    def test_a_killed_worker_comes_back(self) -> None:
        for expected in (1, 2):
            pid = self.begun() if expected == 1 else self.supervisor.watch().pid
            self.assertEqual(self.supervisor.watch().starts, expected)
            self.assertTrue(self.supervisor.watch().working)
            assert pid is not None
            os.kill(pid, signal.SIGKILL)
            self.until(lambda n=expected: self.supervisor.watch().starts == n + 1)
            self.until(lambda: self.supervisor.watch().sign.doing == "idle")
            self.assertNotEqual(self.supervisor.watch().pid, pid)

    def test_one_that_no_longer_moves_is_told_and_ended(self) -> None:
        pid = self.begun()
        with (
            mock.patch.object(supervisor, "SILENT", 1.0),
            mock.patch.object(supervisor, "ENDED_AFTER", 2.5),
        ):
            os.kill(pid, signal.SIGSTOP)
            self.until(lambda: self.supervisor.watch().stuck, 10)
            self.assertFalse(self.supervisor.watch().working)
            self.until(lambda: self.supervisor.watch().starts == 2, 20)
        self.until(lambda: self.supervisor.watch().working, 20)

    def test_a_stopped_one_goes_on_when_it_is_woken(self) -> None:
        pid = self.begun()
        os.kill(pid, signal.SIGSTOP)
        time.sleep(1.0)
        os.kill(pid, signal.SIGCONT)
        heard = self.supervisor.watch().silent
        self.until(lambda: self.supervisor.watch().silent < max(0.6, heard / 2), 10)
        self.assertEqual(self.supervisor.watch().starts, 1)

    def test_stopping_ends_the_worker(self) -> None:
        pid = self.begun()
        self.supervisor.stop()
        with self.assertRaises(ProcessLookupError):
            os.kill(pid, 0)


class TestKeepingOn(Waiting):
    """A worker in this process, with a real child."""

    def setUp(self) -> None:
        super().setUp()
        self.said: list[Sign] = []
        signs = mock.Mock(spec=Signs)
        signs.tell.side_effect = lambda *given: self.said.append(Sign(*given))
        self.worker = Worker(self.home, signs)
        self.addCleanup(lambda: self.worker.child and self.worker.child.kill())
        for module in (worker, keeping):
            rests = mock.patch.multiple(module, FIRST_REST=0.02, LONGEST_REST=0.05)
            rests.start()
            self.addCleanup(rests.stop)

    def failing(self, name: str, error: Exception, times: int) -> Any:
        """A function of what keeps results that fails so often, and then does what it did."""
        kept, left = getattr(keeping, name), [times]

        def inner(*given: Any, **more: Any) -> Any:
            left[0] -= 1
            if left[0] >= 0:
                raise error
            return kept(*given, **more)

        return mock.patch.object(keeping, name, inner)

    def test_a_result_waits_for_the_disk(self) -> None:
        """A full disk while the result is taken in and noted: it is kept as soon as it can be."""
        number = self.put(Payload(to=3))
        with self.failing("conclude", FULL, 3):
            self.assertTrue(self.worker.one())
        self.assertEqual(self.task(number).state, "done")
        self.assertEqual(self.task(number).attempts, 1)
        self.assertIn("The disk is full", self.said[-2].trouble)

    def test_a_result_waits_for_the_database(self) -> None:
        number = self.put(Payload(to=3))
        with self.failing("conclude", locked(), 7), mock.patch("time.sleep"):
            self.assertTrue(self.worker.one())
        self.assertEqual(self.task(number).state, "done")

    def test_nobody_has_to_wait_for_ever(self) -> None:
        """Cancelled while its result waits for room: the task ends."""
        number = self.put(Payload(to=3))
        with mock.patch.object(type(self.home.files), "put", side_effect=FULL):
            thread = threading.Thread(target=self.worker.one)
            thread.start()
            self.until(lambda: any("waits" in s.trouble for s in self.said))
            with self.home.sessions() as db:
                queue.cancel(db, db.get_one(Task, number))
                db.commit()
            thread.join(20)
        self.assertEqual(self.task(number).state, "cancelled")

    def test_a_heartbeat_survives_a_locked_database(self) -> None:
        number = self.put(Payload(to=8, seconds=0.1))
        kept, tries = queue.beat, []

        def beat(*given: Any, **more: Any) -> Any:
            tries.append(1)
            if len(tries) < 3:
                raise locked()
            return kept(*given, **more)

        with mock.patch.object(queue, "beat", beat):
            self.assertTrue(self.worker.one())
        self.assertGreaterEqual(len(tries), 3)
        self.assertEqual(self.task(number).state, "done")
        self.assertIn("database is locked", self.said[2].trouble + self.said[1].trouble)

    def test_a_task_sent_to_a_child_that_just_died(self) -> None:
        """Its pipe is broken: another child gets the task."""
        self.put(Payload(to=1))
        self.worker.one()
        child = self.worker.child
        assert child is not None
        number = self.put(Payload(to=2))
        with mock.patch.object(child, "alive", return_value=True):
            os.kill(child.process.pid or 0, signal.SIGKILL)
            child.process.join()
            self.assertTrue(self.worker.one())
        self.assertEqual(self.task(number).state, "done")

    def test_a_killed_child_is_tried_three_times(self) -> None:
        """What gets no further fails in the end, and can be run again; what does, goes on."""
        number = self.put(Payload(to=1000, seconds=0.05))
        for attempt in range(1, queue.MOST_ATTEMPTS + 1):
            thread = threading.Thread(target=self.worker.one)
            thread.start()
            self.until(lambda: self.task(number).live.get("number", 0) >= 1)
            assert self.worker.child is not None
            os.kill(self.worker.child.process.pid or 0, signal.SIGKILL)
            thread.join(20)
            self.assertEqual(self.task(number).attempts, attempt)
        task = self.task(number)
        self.assertEqual((task.state, task.error["again"]), ("failed", True))
        self.assertIn("SIGKILL", task.error["error"])

    def test_what_gets_further_is_no_hopeless_case(self) -> None:
        number = self.put(Payload(to=40, seconds=0.05))
        with self.home.sessions() as db:
            db.get_one(Task, number).attempts = 2
            db.commit()
        thread = threading.Thread(target=self.worker.one)
        thread.start()
        self.until(lambda: self.task(number).share > 0.3)
        self.assertEqual(self.task(number).attempts, 1)
        thread.join(30)

    def test_memory_that_is_full_is_told(self) -> None:
        """A limit that is reached ends the task, not the worker; the next gets a new child."""
        number = self.put(Payload(to=50, take=100 * 10**6))
        self.assertTrue(self.worker.one())
        task = self.task(number)
        self.assertEqual((task.state, task.error["again"]), ("failed", True))
        self.assertIn("memory is full", task.error["error"])
        after = self.put(Payload(to=2))
        self.assertTrue(self.worker.one())
        self.assertEqual(self.task(after).state, "done")

    def test_suspended_and_woken(self) -> None:
        number = self.put(Payload(to=80, seconds=0.05))
        thread = threading.Thread(target=self.worker.one)
        thread.start()
        self.until(lambda: self.task(number).live.get("number", 0) >= 2)
        assert self.worker.child is not None
        pid = self.worker.child.process.pid or 0
        os.kill(pid, signal.SIGSTOP)
        time.sleep(1.0)
        self.assertEqual(self.task(number).state, "running")
        os.kill(pid, signal.SIGCONT)
        thread.join(30)
        self.assertEqual((self.task(number).state, self.task(number).attempts), ("done", 1))

    def test_a_clock_that_is_moved(self) -> None:
        """By a day, forth and back, in the middle of a task: nothing is begun twice, or lost."""
        for days in (1, -1):
            number = self.put(Payload(to=80, seconds=0.05))
            thread = threading.Thread(target=self.worker.one)
            thread.start()
            self.until(lambda n=number: self.task(n).live.get("number", 0) >= 1)
            real = time.time
            with mock.patch("time.time", lambda d=days, r=real: r() + d * 86400):
                thread.join(30)
                self.assertFalse(thread.is_alive())
            self.assertEqual((self.task(number).state, self.task(number).attempts), ("done", 1))
            # A child ends with the thread that started it; in the worker that is the only one.
            assert self.worker.child is not None
            self.worker.child.kill()
            self.worker.child = None

    def test_an_error_of_our_own_ends_no_worker(self) -> None:
        """What is in hand is begun again, with a new child."""
        number = self.put(Payload(to=3))
        with (
            self.failing("conclude", RuntimeError("odd"), 1),
            mock.patch.object(worker.failures, "not_kept", side_effect=RuntimeError("odder")),
            mock.patch("traceback.print_exc"),
        ):
            done = self.worker._insist("looks for work", self.worker.one)
        self.assertTrue(done)
        self.assertEqual(self.task(number).state, "done")

    def test_words_for_what_hinders(self) -> None:
        self.assertEqual(hindrance(FULL), "The disk is full.")
        self.assertIn("locked", hindrance(locked()))
        self.assertIn("ValueError", hindrance(ValueError("x")))
