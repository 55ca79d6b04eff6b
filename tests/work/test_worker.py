"""The worker with a real child on the small demo: nothing finished is lost, and work goes on."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import unittest
import zipfile
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import ClassVar
from unittest import mock

import psutil
from sqlalchemy import select

from mill_lane.core.trim.model import Choice, Target
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.jobs.bootstrap import bootstrap
from mill_lane.jobs.lookup import find_job, with_time_profile
from mill_lane.jobs.renders import Wish, run_trial
from mill_lane.jobs.versions import write_as
from mill_lane.store.home import open_home
from mill_lane.store.models import Job, Render, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.computer import Child
from mill_lane.work.ending import conclude
from mill_lane.work.kinds import open as opening
from mill_lane.work.kinds import trim
from mill_lane.work.kinds.base import Context
from mill_lane.work.kinds.open import OPEN
from mill_lane.work.kinds.render import RENDER
from mill_lane.work.kinds.trim import TRIM
from mill_lane.work.kinds.weigh import WEIGH
from mill_lane.work.worker import Worker

TOLD = [{"code": "told", "level": "look", "text": "told when it came in"}]


class Begun:
    """A task that the worker does on another thread."""

    def __init__(self, doing: Future[bool]) -> None:
        self.doing = doing

    def is_alive(self) -> bool:
        return not self.doing.done()

    def join(self, seconds: float) -> None:
        self.doing.result(seconds)


class TestWorker(unittest.TestCase):
    """Each test on a copy of one home, with the same child: what loads the renderer is one."""

    folder: ClassVar[Path]
    hands: ClassVar[ThreadPoolExecutor]
    child: ClassVar[Child | None] = None

    @classmethod
    def setUpClass(cls) -> None:
        keep = tempfile.TemporaryDirectory()
        cls.addClassCleanup(keep.cleanup)
        cls.hands = ThreadPoolExecutor(1)  # on which children are started: they end with it
        cls.addClassCleanup(cls.hands.shutdown)
        cls.folder = Path(keep.name) / "home"
        home = open_home(cls.folder)
        with home.sessions() as db:
            bootstrap(db, "small")
            db.commit()
        worker = Worker(home)
        for _ in range(2):
            cls.hands.submit(worker.one).result(240)
        cls.child = worker.child
        cls.addClassCleanup(lambda: cls.child and cls.child.kill())
        with home.sessions() as db:
            kinds = [(t.kind, t.state) for t in db.scalars(select(Task).order_by(Task.id))]
            # Looks and loading ahead have tests of their own.
            aside = Task.kind.in_(("first_look", "preload"))
            for task in db.scalars(select(Task).where(aside)):
                db.delete(task)
            db.commit()
        home.sessions.kw["bind"].dispose()
        begun = [("prepare", "done"), ("demo", "done"), ("first_look", "queued")]
        assert kinds == [*begun, ("preload", "queued"), ("weigh", "queued")], kinds

    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        shutil.copytree(self.folder, Path(keep.name) / "home")
        self.home = open_home(Path(keep.name) / "home", migrated=True)
        self.addCleanup(self.home.sessions.kw["bind"].dispose)
        self.worker = Worker(self.home)
        self.worker.child = type(self).child
        self.addCleanup(self.end_children)
        with self.home.sessions() as db:
            self.weighing = db.scalars(select(Task.id).where(Task.kind == "weigh")).one()

    def one(self) -> bool:
        """Have the worker do a task."""
        return self.hands.submit(self.worker.one).result(240)

    def end_children(self) -> None:
        type(self).child = self.worker.child
        if self.worker.apart is not None:
            self.worker.apart.kill()

    def task(self, number: int) -> Task:
        with self.home.sessions() as db:
            return db.get_one(Task, number)

    def until(self, ready: Callable[[], bool], seconds: float = 60) -> None:
        end = time.monotonic() + seconds
        while not ready():
            self.assertLess(time.monotonic(), end, "it takes too long")
            time.sleep(0.05)

    def begun(self) -> Begun:
        """Have the worker do a task, on the one thread that its children end with."""
        return Begun(self.hands.submit(self.worker.one))

    def trial(self, **fields: object) -> int:
        """Queue a trial of the whole view; returns its task."""
        values = {"width": 96, "height": 54, "samples": 4, "min_samples": 1} | fields
        with self.home.sessions() as db:
            trial = run_trial(db, find_job(db, 1), Wish(values=values))
            db.commit()
            assert trial.task_id is not None
            return trial.task_id

    def render_of(self, task: int) -> Render:
        with self.home.sessions() as db:
            return db.scalars(select(Render).where(Render.task_id == task)).one()

    def test_weighing_waits_for_what_is_wanted_and_tells_as_it_goes(self) -> None:
        """A trial goes first; stages are kept as they are done; what was stopped goes on."""
        number = self.trial()
        self.one()
        self.assertEqual(self.task(number).state, "done")
        self.assertEqual(self.task(self.weighing).state, "queued")
        with self.home.sessions() as db:
            version = db.get_one(SceneVersion, 1)
            self.assertEqual((version.stage, version.analysis["visibility"]), (0, None))
            version.analysis = {**version.analysis, "notes": TOLD}
            db.commit()
        thread = self.begun()
        stages: set[int] = set()
        while thread.is_alive():
            with self.home.sessions() as db:
                stages.add(db.get_one(SceneVersion, 1).stage)
                if max(stages) >= 2 and not db.get_one(Task, self.weighing).over:
                    queue.cancel(db, db.get_one(Task, self.weighing))
                    db.commit()
            time.sleep(0.02)
        with self.home.sessions() as db:
            task, version = db.get_one(Task, self.weighing), db.get_one(SceneVersion, 1)
            self.assertEqual(task.state, "cancelled")
            self.assertIn(version.stage, (2, 3))
            self.assertEqual(version.analysis["notes"], TOLD)
            queue.retry(db, task)
            db.commit()
        # What is asked for meanwhile goes first: it gives way, and is taken up afterwards.
        thread = self.begun()
        self.until(lambda: self.task(self.weighing).state == "running")
        number = self.trial()
        thread.join(30)
        self.assertEqual([self.task(n).state for n in (self.weighing, number)], ["queued"] * 2)
        for _ in range(2):
            self.assertTrue(self.one())
        with self.home.sessions() as db:  # looks have a test of their own
            for look in db.scalars(select(Task).where(Task.kind.in_(("first_look", "preload")))):
                db.delete(look)
            db.commit()
        self.assertEqual([self.task(n).state for n in (number, self.weighing)], ["done"] * 2)
        with self.home.sessions() as db:
            version = db.get_one(SceneVersion, 1)
            analysis = read_analysis(version.analysis)
        self.assertEqual((version.stage, version.analysis["notes"]), (4, TOLD))
        self.assertEqual([m.name for m in analysis.meshes if m.seen is None], [])

    def test_a_scene_goes_out(self) -> None:
        with self.home.sessions() as db:
            queue.cancel(db, db.get_one(Task, self.weighing))
            tasks = [write_as(db, find_job(db, 1), name).id for name in ("obj", "usdz")]
            db.commit()
        self.begun().join(60)
        self.begun().join(60)
        for number in tasks:
            task = self.task(number)
            self.assertEqual(task.state, "done", task.error)
            path = self.home.files.path(task.result["export"]["hash"])
            self.assertEqual(path.stat().st_size, task.result["export"]["size"])
            self.assertTrue(zipfile.is_zipfile(path))
            self.assertTrue(task.result["export"]["notes"])
        self.assertEqual(list(self.home.scratch.iterdir()), [])

    def test_trial_and_trim(self) -> None:
        number = self.trial()
        self.one()
        trial = self.render_of(number)
        self.assertEqual(trial.measured["passes"], 4)
        self.assertGreaterEqual(trial.measured["rays"]["camera"], 96 * 54 * 4)
        self.assertTrue(self.home.files.path(str(trial.exr)).exists())
        self.assertLessEqual({"albedo", "noise", "work"}, set(trial.layers))
        self.assertFalse((self.home.scratch / f"task-{number}").exists())
        told = {"notes": TOLD, "read_as": ["cm", "z"]}
        with self.home.sessions() as db:
            self.assertTrue(with_time_profile(db, trial).time_profile["kinds"])
            choice = Choice(
                trim="texture_size",
                target=Target(kind="image", index=0, name="x"),
                parameters={"limit": 32},
            )
            payload = trim.Payload(version=1, name="bakery.glb", choices=[choice])
            queue.put(db, TRIM, payload, 1)
            first = db.get_one(SceneVersion, 1)
            first.analysis = {**first.analysis, **told}
            db.commit()
        self.one()
        with self.home.sessions() as db:
            first, second = db.scalars(select(SceneVersion).order_by(SceneVersion.id)).all()
            self.assertEqual((first.number, second.number), (1, 2))
            self.assertEqual((second.parent_id, second.changes[0]["to"]), (1, [32, 32]))
            self.assertEqual({k: second.analysis[k] for k in told}, told)
            self.assertEqual(db.get_one(Job, 1).version_id, second.id)
            waiting = db.scalars(select(Task).where(Task.kind == "weigh", Task.state == "queued"))
            self.assertEqual(len(list(waiting)), 2)

    def test_a_damaged_upload_is_told_by_its_name(self) -> None:
        upload = self.home.scratch / "tmp123.glb"
        upload.write_bytes(b"not a scene")
        with self.home.sessions() as db:
            payload = opening.Payload(source=upload.name, name="my shop.glb", uploaded=True)
            number = queue.put(db, OPEN, payload, 1).id
            db.commit()
        self.one()
        task = self.task(number)
        self.assertEqual(task.state, "failed")
        self.assertIn("my shop.glb", task.error["error"])
        self.assertTrue(task.error["hint"])
        self.assertEqual(list(self.home.scratch.iterdir()), [])
        with self.home.sessions() as db:
            self.assertEqual(len(list(db.scalars(select(SceneVersion)))), 1)

    def test_what_is_paused_lets_go_and_is_kept_when_stopped(self) -> None:
        number = self.trial(samples=4096, width=320, height=180)
        thread = self.begun()
        self.until(lambda: float(self.task(number).live.get("samples") or 0) >= 1)
        with self.home.sessions() as db:
            queue.want(db, db.get_one(Task, number), pause=True)
            db.commit()
        thread.join(30)
        with self.home.sessions() as db:
            task = db.get_one(Task, number)
            self.assertEqual((task.state, task.over), ("paused", False))
            self.assertTrue((self.home.scratch / f"task-{number}" / "state.npz").exists())
            queue.cancel(db, task)
            db.commit()
        self.one()
        trial = self.render_of(number)
        self.assertEqual(trial.measured["ended_by"], "hand")
        self.assertTrue(trial.measured["resumed"])
        self.assertGreaterEqual(trial.measured["passes"], 1)
        self.assertIsNotNone(trial.picture)

    def test_what_gives_way_without_an_answer_waits(self) -> None:
        """Its child is killed when it does not stop in time; that is no wish of the artist's."""
        with mock.patch.object(type(WEIGH), "patience", return_value=-1.0):
            thread = self.begun()
            self.until(lambda: self.task(self.weighing).state == "running")
            number = self.trial()
            thread.join(30)
        self.assertEqual([self.task(n).state for n in (self.weighing, number)], ["queued"] * 2)

    def test_told_otherwise_while_it_is_put_aside(self) -> None:
        """What is told to go on, or stopped, while its child puts itself aside is not left so."""
        for wants, cancel, state, kept in (
            ({"pause": False}, False, "queued", {"pause": False}),
            ({"pause": True}, False, "paused", {"pause": True}),
            ({"pause": True}, True, "queued", {"finish": True}),
        ):
            with self.subTest(wants=wants, cancel=cancel):
                number = self.trial(samples=16)
                kept_state = mock.patch.object(type(RENDER), "left_something", return_value=True)
                with kept_state, self.home.sessions() as db:
                    task = db.get_one(Task, number)
                    task.state, task.wants, task.cancel = "running", wants, cancel
                    conclude(Context(db, self.home, task), RENDER, "paused", None, {})
                    self.assertEqual((task.state, task.wants, task.cancel), (state, kept, False))
                    db.rollback()

    def test_nothing_runs_on_without_the_server(self) -> None:
        """The server killed in the middle of a render: worker and renderer end too."""
        number = self.trial(samples=4096, width=640, height=360)
        code = (
            "import sys, time; from pathlib import Path\n"
            "from mill_lane.work.supervisor import Supervisor\n"
            "if __name__ == '__main__':\n"
            "    Supervisor(Path(sys.argv[1])).start(); time.sleep(600)"
        )
        script = self.home.folder / "server.py"
        script.write_text(code)
        server = subprocess.Popen([sys.executable, str(script), str(self.home.folder)])
        self.addCleanup(server.kill)
        self.until(lambda: float(self.task(number).live.get("seconds") or 0) > 0, 120)
        below = psutil.Process(server.pid).children(recursive=True)
        self.assertGreaterEqual(len(below), 2)
        server.kill()
        server.wait()
        _, alive = psutil.wait_procs(below, 20)
        self.assertEqual(alive, [])
        with self.home.sessions() as db:
            self.assertEqual(db.get_one(Task, number).state, "running")
            self.assertEqual(queue.recover(db, everything=True), [number])
            self.assertEqual(db.get_one(Task, number).state, "queued")

    def test_a_killed_child_goes_on_from_its_checkpoint(self) -> None:
        with mock.patch.object(RENDER, "checkpoint_seconds", 0.3):
            number = self.trial(samples=4096, width=640, height=360)
            state = self.home.scratch / f"task-{number}" / "state.npz"
            thread = self.begun()
            self.until(state.exists)
            assert self.worker.child is not None
            os.kill(self.worker.child.process.pid, signal.SIGKILL)  # type: ignore[arg-type]
            thread.join(20)
        with self.home.sessions() as db:
            task = db.get_one(Task, number)
            self.assertEqual((task.state, task.attempts), ("queued", 1))
        thread = self.begun()
        # Until the render itself goes on: stopped before, nothing new would be kept.
        self.until(lambda: self.task(number).live.get("phase") == "rendering")
        with self.home.sessions() as db:
            queue.cancel(db, db.get_one(Task, number))
            db.commit()
        thread.join(60)
        trial = self.render_of(number)
        self.assertTrue(trial.measured["resumed"])
        self.assertEqual(trial.measured["ended_by"], "hand")
        self.assertGreaterEqual(trial.measured["seconds"], 0.3)
        self.assertEqual(self.task(number).state, "done")

    def test_a_result_that_cannot_be_kept_is_told(self) -> None:
        """What no waiting mends: the task fails, nothing half is kept, and it can be run again."""
        number = self.trial()
        broken = mock.patch.object(type(self.home.files), "put", side_effect=ValueError("odd"))
        with broken:
            self.one()
        task = self.task(number)
        self.assertEqual(task.state, "failed")
        self.assertIn("odd", task.error["error"])
        self.assertTrue(task.error["again"])
        self.assertEqual(self.render_of(number).measured, {})
