"""The queue and the worker: nothing finished is lost, and what was interrupted goes on."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
import unittest
import zipfile
from pathlib import Path

import psutil
from sqlalchemy import select, text

from mill_lane.core.errors import MillError
from mill_lane.serve import furnish
from mill_lane.store.home import Home, lock, open_home
from mill_lane.store.models import Job, SceneVersion, StoredFile, Task, Trial
from mill_lane.web.api import ExportForm, TrialForm, export, run_trial
from mill_lane.work import queue
from mill_lane.work.worker import Worker, died


class WithHome(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.home: Home = open_home(Path(keep.name))


class TestStore(WithHome):
    def test_database_settings(self) -> None:
        with self.home.sessions() as db:
            self.assertEqual(db.execute(text("PRAGMA journal_mode")).scalar(), "wal")
            self.assertEqual(db.execute(text("PRAGMA foreign_keys")).scalar(), 1)

    def test_migrations_make_the_models_tables(self) -> None:
        from alembic.autogenerate import compare_metadata
        from alembic.migration import MigrationContext

        from mill_lane.store.models import Base

        with self.home.sessions() as db:
            self.assertEqual(
                compare_metadata(MigrationContext.configure(db.connection()), Base.metadata), []
            )

    def test_files_by_content(self) -> None:
        with self.home.sessions() as db:
            keys = []
            for name in ("a", "b"):
                path = self.home.scratch / name
                path.write_bytes(b"the same")
                keys.append(self.home.files.take(path, db))
                self.assertFalse(path.exists())
            self.assertEqual(keys[0], keys[1])
            self.assertEqual(self.home.files.path(keys[0]).read_bytes(), b"the same")
            self.assertEqual(len(db.scalars(select(StoredFile)).all()), 1)
            for wrong in ("../../etc/passwd", "A" * 64, ""):
                with self.assertRaises(ValueError):
                    self.home.files.path(wrong)

    def test_one_server_a_home(self) -> None:
        held = lock(self.home.folder)
        with self.assertRaises(MillError):
            lock(self.home.folder)
        held.close()
        lock(self.home.folder).close()


class TestQueue(WithHome):
    def test_each_task_is_claimed_once(self) -> None:
        with self.home.sessions() as db:
            for _ in range(20):
                queue.put(db, "prepare", {})
            db.commit()
        claimed: list[int] = []

        def work() -> None:
            with self.home.sessions() as db:
                while (task := queue.claim(db)) is not None:
                    claimed.append(task.id)

        threads = [threading.Thread(target=work) for _ in range(4)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        self.assertEqual(sorted(claimed), list(range(1, 21)))

    def test_orphans_go_back_and_in_the_end_fail(self) -> None:
        with self.home.sessions() as db:
            queue.put(db, "trial", {})
            db.commit()
            for attempt in range(1, queue.MOST_ATTEMPTS + 1):
                task = queue.claim(db)
                assert task is not None
                self.assertEqual(task.attempts, attempt)
                self.assertEqual(queue.recover(db), [])  # its lease still holds
                task.lease = time.time() - 1
                db.commit()
                self.assertEqual(queue.recover(db), [task.id])
            self.assertEqual(task.state, "failed")
            self.assertTrue(task.error["hint"])
            queue.again(db, task)
            self.assertEqual((task.state, task.attempts, task.error), ("queued", 0, {}))

    def test_cancelling(self) -> None:
        with self.home.sessions() as db:
            waiting, running = queue.put(db, "trial", {}), queue.put(db, "trial", {})
            queue.cancel(db, waiting)
            self.assertEqual(waiting.state, "cancelled")
            db.commit()
            task = queue.claim(db)
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
        """Only what is paused goes on; stopping what is paused takes it up once more, to keep its
        picture.
        """
        with self.home.sessions() as db:
            over, paused = queue.put(db, "trial", {}), queue.put(db, "trial", {})
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
        self.assertIn("memory", died(-signal.SIGKILL)["error"])
        self.assertIn("checkpoint", died(1)["hint"])


class TestWorker(WithHome):
    """With a real child process on the small demo."""

    def setUp(self) -> None:
        super().setUp()
        with self.home.sessions() as db:
            furnish(db, "small")
        self.worker = Worker(self.home)
        self.addCleanup(lambda: self.worker.child and self.worker.child.kill())
        for _ in range(2):
            self.assertTrue(self.worker.one())
        with self.home.sessions() as db:
            tasks = db.scalars(select(Task)).all()
            self.assertEqual(
                [(t.kind, t.state) for t in tasks],
                [("prepare", "done"), ("demo", "done"), ("weigh", "queued")],
            )
            self.weighing = tasks[-1].id

    def test_weighing_waits_for_what_is_wanted_and_tells_as_it_goes(self) -> None:
        """A trial goes first; stages are kept as they are done; a weighing that was stopped goes on
        when asked to.
        """
        number = self.trial()
        self.worker.one()
        with self.home.sessions() as db:
            self.assertEqual(db.get_one(Task, number).state, "done")
            self.assertEqual(db.get_one(Task, self.weighing).state, "queued")
            listed = db.get_one(SceneVersion, 1).analysis
            self.assertEqual((listed["stage"], listed["look"]), (0, None))
            db.get_one(SceneVersion, 1).analysis = {
                **listed,
                "notes": [["look", "told when it came in"]],
            }
            db.commit()
        thread = threading.Thread(target=self.worker.one)
        thread.start()
        stages: set[int] = set()
        while thread.is_alive():
            with self.home.sessions() as db:
                stages.add(db.get_one(SceneVersion, 1).analysis["stage"])
                if max(stages) >= 2 and not db.get_one(Task, self.weighing).over:
                    queue.cancel(db, db.get_one(Task, self.weighing))
                    db.commit()
            time.sleep(0.02)
        with self.home.sessions() as db:
            task, analysis = db.get_one(Task, self.weighing), db.get_one(SceneVersion, 1).analysis
            self.assertEqual(task.state, "cancelled")
            self.assertIn(analysis["stage"], (2, 3))
            self.assertEqual(analysis["notes"], [["look", "told when it came in"]])
            queue.again(db, task)
            db.commit()
        # What is asked for meanwhile goes first: it gives way, and is taken up afterwards.
        thread = threading.Thread(target=self.worker.one)
        thread.start()
        time.sleep(0.5)
        number = self.trial()
        thread.join(30)
        with self.home.sessions() as db:
            self.assertEqual(
                [db.get_one(Task, n).state for n in (self.weighing, number)], ["queued", "queued"]
            )
        for _ in range(2):
            self.assertTrue(self.worker.one())
        with self.home.sessions() as db:
            self.assertEqual(
                [db.get_one(Task, n).state for n in (number, self.weighing)], ["done", "done"]
            )
            analysis = db.get_one(SceneVersion, 1).analysis
            self.assertEqual(
                (analysis["stage"], analysis["notes"]), (4, [["look", "told when it came in"]])
            )
            self.assertEqual(
                {m["seen"] for m in analysis["meshes"]}
                - {"camera", "reflection", "light_only", "never"},
                set(),
            )

    def test_a_scene_goes_out(self) -> None:
        with self.home.sessions() as db:
            queue.cancel(db, db.get_one(Task, self.weighing))
            for form in ("obj", "usdz"):
                export(db, 1, ExportForm(format=form))  # type: ignore[arg-type]
            db.commit()
        self.worker.one()
        self.worker.one()
        with self.home.sessions() as db:
            for task in db.scalars(select(Task).where(Task.kind == "export")):
                self.assertEqual(task.state, "done", task.error)
                path = self.home.files.path(task.result["export"]["hash"])
                self.assertEqual(path.stat().st_size, task.result["export"]["size"])
                self.assertTrue(zipfile.is_zipfile(path))
                self.assertTrue(task.result["export"]["notes"])
        self.assertEqual(list(self.home.scratch.iterdir()), [])

    def trial(self, **fields: object) -> int:
        with self.home.sessions() as db:
            run_trial(
                db,
                1,
                TrialForm.model_validate(
                    {
                        "width": 96,
                        "height": 54,
                        "samples": 4,
                        "min_samples": 1,
                        "whole": True,
                        **fields,
                    }
                ),
            )
            db.commit()
            return db.scalars(select(Trial).order_by(Trial.id.desc())).first().task_id  # type: ignore[union-attr,return-value]

    def test_trial_trim_and_damage(self) -> None:
        self.trial()
        self.worker.one()
        with self.home.sessions() as db:
            trial = db.get_one(Trial, 1)
            self.assertEqual(trial.measured["passes"], 4)
            self.assertGreater(trial.measured["rays"]["camera"], 96 * 54 * 4 - 1)
            self.assertIsNotNone(trial.picture)
            self.assertTrue(self.home.files.path(str(trial.exr)).exists())
            self.assertFalse((self.home.scratch / f"task-{trial.task_id}").exists())
            queue.put(db, "trim", {"version": 1, "sizes": {"0": 32}, "name": "bakery.glb"}, 1)
            first = db.get_one(SceneVersion, 1)
            told = {"notes": [["look", "told when it came in"]], "read_as": ["cm", "z"]}
            first.analysis = {**first.analysis, **told}
            bad = self.home.scratch / "bad.glb"
            bad.write_bytes(b"not a scene")
            queue.put(db, "open", {"source": str(bad), "name": "bad.glb", "uploaded": True}, 1)
            db.commit()
        self.worker.one()
        self.worker.one()
        with self.home.sessions() as db:
            for task in db.scalars(select(Task).where(Task.kind == "weigh")):
                self.assertEqual(task.state, "queued")
            versions = db.scalars(select(SceneVersion).order_by(SceneVersion.id)).all()
            self.assertEqual([v.number for v in versions], [1, 2])
            self.assertEqual((versions[1].parent_id, versions[1].changes[0]["new"]), (1, [32, 32]))
            self.assertEqual({k: versions[1].analysis[k] for k in told}, told)
            self.assertEqual(db.get_one(Job, 1).version_id, versions[1].id)
            task = db.scalars(
                select(Task).where(Task.kind == "open").order_by(Task.id.desc())
            ).first()
            assert task is not None
            self.assertEqual(task.state, "failed")
            self.assertIn("bad.glb", task.error["error"] + "bad.glb")
            self.assertFalse(bad.exists())
            self.assertEqual(list(self.home.scratch.iterdir()), [])

    def test_what_is_paused_lets_go_and_is_kept_when_stopped(self) -> None:
        number = self.trial(samples=4096, width=320, height=180)
        thread = threading.Thread(target=self.worker.one)
        thread.start()
        for _ in range(600):
            with self.home.sessions() as db:
                if float(db.get_one(Task, number).live.get("samples") or 0) >= 1:
                    break
            time.sleep(0.1)
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
        self.worker.one()
        with self.home.sessions() as db:
            trial = db.scalars(select(Trial).where(Trial.task_id == number)).one()
            self.assertEqual(trial.measured["ended_by"], "hand")
            self.assertTrue(trial.measured["resumed"])
            self.assertGreaterEqual(trial.measured["passes"], 1)
            self.assertIsNotNone(trial.picture)

    def test_nothing_runs_on_without_the_server(self) -> None:
        """The server killed in the middle of a render:

        worker and renderer end too, and the task is taken up later.
        """
        number = self.trial(samples=4096, width=640, height=360)
        code = (
            "import sys, time; from pathlib import Path; from mill_lane.work import worker\n"
            "if __name__ == '__main__':\n    worker.start(Path(sys.argv[1])); time.sleep(600)"
        )
        script = self.home.folder / "server.py"
        script.write_text(code)
        server = subprocess.Popen([sys.executable, str(script), str(self.home.folder)])
        self.addCleanup(server.kill)

        def running() -> bool:
            with self.home.sessions() as db:
                return float(db.get_one(Task, number).live.get("seconds") or 0) > 0

        for _ in range(1200):
            if running():
                break
            time.sleep(0.1)
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
        import mill_lane.work.handlers as handlers

        self.assertGreater(handlers.CHECKPOINT_SECONDS, 0)
        number = self.trial(samples=4096, width=640, height=360)
        state = self.home.scratch / f"task-{number}" / "state.npz"
        thread = threading.Thread(target=self.worker.one)
        thread.start()
        for _ in range(600):
            if state.exists():
                break
            time.sleep(0.1)
        self.assertTrue(state.exists())
        assert self.worker.child is not None
        os.kill(self.worker.child.process.pid, signal.SIGKILL)  # type: ignore[arg-type]
        thread.join(20)
        with self.home.sessions() as db:
            task = db.get_one(Task, number)
            self.assertEqual(task.state, "failed")
            self.assertIn("SIGKILL", task.error["error"])
            queue.again(db, task)
            db.commit()
        thread = threading.Thread(target=self.worker.one)
        thread.start()
        for _ in range(
            600
        ):  # until the render itself goes on; stopped before, nothing new would be kept
            with self.home.sessions() as db:
                if db.get_one(Task, number).live.get("phase") == "rendering":
                    break
            time.sleep(0.1)
        with self.home.sessions() as db:
            queue.cancel(db, db.get_one(Task, number))
            db.commit()
        thread.join(60)
        with self.home.sessions() as db:
            trial = db.scalars(select(Trial).where(Trial.task_id == number)).one()
            self.assertTrue(trial.measured["resumed"])
            self.assertEqual(trial.measured["ended_by"], "hand")
            self.assertGreaterEqual(trial.measured["seconds"], handlers.CHECKPOINT_SECONDS)
            self.assertEqual(db.get_one(Task, number).state, "done")
