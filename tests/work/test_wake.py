"""The bell, and what wakes the worker: at once where somebody queues, and never by a write."""

from __future__ import annotations

import os
import sqlite3
import threading
import time
from contextlib import closing
from unittest import mock

from mill_lane.core.cache import Cache
from mill_lane.store.bell import listening, ring
from mill_lane.store.models import StoredFile, Task
from mill_lane.store.transactions import write
from mill_lane.work import queue, wake
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.base import Nothing
from mill_lane.work.wake import Changes, Waker
from mill_lane.work.worker import Worker
from tests.homes import WithHome
from tests.toys.kind import COUNT, Payload


class TestBell(WithHome):
    def test_it_is_heard_by_whoever_listens(self) -> None:
        ring(self.home.bell)  # nobody listens: nothing happens
        with listening(self.home.bell) as bell:
            self.assertFalse(bell.wait(0.0))
            for _ in range(3):
                ring(self.home.bell)
            self.assertTrue(bell.wait(1.0))
            self.assertFalse(bell.wait(0.0))  # all that was rung was heard
        ring(self.home.bell)

    def test_it_is_rung_when_tasks_are_committed(self) -> None:
        with listening(self.home.bell) as bell:
            with self.home.sessions() as db:
                queue.put(db, COUNT, Payload(to=1))
                self.assertFalse(bell.wait(0.0))
                db.rollback()
                self.assertFalse(bell.wait(0.0))
                queue.put(db, COUNT, Payload(to=1))
                db.commit()
                self.assertTrue(bell.wait(1.0))
                db.add(StoredFile(hash="0" * 64, name="x", size=1))
                db.commit()
            self.assertFalse(bell.wait(0.0))

    def test_where_there_is_no_bell(self) -> None:
        """A file in its place goes; where none can be made, the net is left."""
        self.home.bell.write_text("x")
        with listening(self.home.bell) as bell:
            ring(self.home.bell)
            self.assertTrue(bell.wait(1.0))
        self.home.bell.unlink()
        with mock.patch.object(os, "mkfifo", side_effect=OSError), listening(self.home.bell) as b:
            self.assertFalse(b.wait(0.01))


class TestWaker(WithHome):
    def changed(self) -> None:
        write(self.home.sessions, lambda db: db.add(StoredFile(hash="1" * 64, name="x", size=1)))

    def test_changes_of_others_are_met_once(self) -> None:
        with closing(sqlite3.connect(self.home.database, isolation_level=None)) as own:
            changes = Changes(own)
            self.assertFalse(changes.met())
            self.changed()
            self.assertTrue(changes.met())
            self.assertFalse(changes.met())

    def test_who_hears_the_bell_begins_again(self) -> None:
        """Where the database cannot be opened, or the bell not be read, for a while."""
        broken = [OSError("no handles"), sqlite3.OperationalError("unable to open"), mock.DEFAULT]
        opened = mock.patch.object(sqlite3, "connect", wraps=sqlite3.connect, side_effect=broken)
        waker = Waker(self.home, os.getppid())
        with mock.patch.object(wake, "NET", 0.05), opened as connect:
            waker.start()
            self.assertTrue(waker.wait(0, 2.0))
            while connect.call_count < 3:
                time.sleep(0.01)
            time.sleep(0.2)
            count = waker.count
            self.assertFalse(waker.wait(count, 0.2))  # it hears again, and is quiet
        self.changed()
        self.assertTrue(waker.wait(count, 5.0))

    def test_the_net_catches_what_was_not_rung(self) -> None:
        waker = Waker(self.home, os.getppid())
        with mock.patch.object(wake, "NET", 0.05):
            waker.start()
            time.sleep(0.2)
            count = waker.count
            self.assertFalse(waker.wait(count, 0.2))
            self.changed()
            self.assertTrue(waker.wait(count, 5.0))

    def test_a_worker_that_waits_writes_nothing_and_begins_at_once(self) -> None:
        worker = Worker(self.home)
        worker.waker.start()
        done, ended = threading.Event(), threading.Event()

        def one() -> bool:
            with self.home.sessions() as db:
                task = queue.claim(db, KINDS)
            if task is not None:
                done.set()
            return task is not None

        def serve() -> None:
            while not ended.is_set():
                worker._next()

        with mock.patch.object(worker, "one", one):
            thread = threading.Thread(target=serve)
            thread.start()
            with closing(sqlite3.connect(self.home.database, isolation_level=None)) as own:
                changes = Changes(own)
                time.sleep(1.5)
                self.assertFalse(changes.met())
                with self.home.sessions() as db:
                    queue.put(db, COUNT, Payload(to=1))
                    db.commit()
                began = time.monotonic()
                self.assertTrue(done.wait(5.0))
                # 50 ms on an idle machine; the net alone would take up to a second.
                self.assertLess(time.monotonic() - began, 0.6)
            ended.set()
            worker.waker.wake()
            thread.join(10)
        self.assertFalse(thread.is_alive())


class TestCache(WithHome):
    def test_what_another_thread_lets_go_of_is_still_given(self) -> None:
        """Threads that ask for more than is kept: each gets what it asked for."""
        cache, wrong = Cache[int](2), []

        def ask(first: int) -> None:
            for k in range(3000):
                key = (first * 7 + k) % 11
                if cache.get(key, lambda key=key: key * key) != key * key:
                    wrong.append(key)

        threads = [threading.Thread(target=ask, args=(n,)) for n in range(6)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual((wrong, len(cache)), ([], 2))

    def test_the_one_used_last_stays(self) -> None:
        cache = Cache[str](2)
        made: list[str] = []

        def make(name: str) -> str:
            return cache.get(name, lambda: made.append(name) or name)

        for name in "abacab":
            make(name)
        self.assertEqual(made, ["a", "b", "c", "b"])


class TestIdleQueue(WithHome):
    def test_looking_for_work_takes_no_write_lock(self) -> None:
        """Also while somebody else holds it."""
        with self.home.sessions() as db:
            task = queue.put(db, COUNT, Nothing())
            task.kind = "prepare"  # waits for nothing, and is of another lane
            db.commit()
        with closing(sqlite3.connect(self.home.database, isolation_level=None)) as other:
            other.execute("BEGIN IMMEDIATE")
            with self.home.sessions() as db:
                self.assertIsNone(queue.claim(db, KINDS, "looks"))
            other.execute("ROLLBACK")
        with self.home.sessions() as db:
            self.assertEqual(db.get_one(Task, 1).state, "queued")
