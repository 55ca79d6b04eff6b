"""Frames on several machines: a scheduler and two workers on this one, one of which is killed."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
import unittest.mock
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from sqlalchemy import select

from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import read_exr
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.render.layers import exr_names
from mill_lane.jobs import nights
from mill_lane.jobs.lookup import find_job
from mill_lane.store.models import Render, RenderGroup, Task
from mill_lane.work import queue
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.base import Context, Paused
from mill_lane.work.kinds.spread import SPREAD, Payload
from mill_lane.work.kinds.spread_parts import SpreadRequest, SpreadResult
from mill_lane.work.machines import remote
from mill_lane.work.machines.spread import spread
from tests.homes import Quiet, do_tasks
from tests.web.test_nights import NightCase

DASK = Path(sys.executable).with_name("dask")
PATIENCE = 60.0  # seconds for a process to be there


class Machines:
    """A scheduler, and workers of it, each a process."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.workers = folder, []
        self.stack = contextlib.ExitStack()
        where = folder / "scheduler.json"
        self._start("scheduler", "--port", "0", "--no-dashboard", "--scheduler-file", str(where))
        end = time.monotonic() + PATIENCE
        while not where.exists() and time.monotonic() < end:
            time.sleep(0.1)
        self.address = str(json.loads(where.read_text())["address"])

    def _start(self, *command: str) -> subprocess.Popen[bytes]:
        log = self.stack.enter_context((self.folder / f"{command[0]}.log").open("ab"))
        env = os.environ | {remote.THREADS: "1"}
        process = subprocess.Popen([str(DASK), *command], stdout=log, stderr=log, env=env)
        self.stack.callback(process.wait)
        self.stack.callback(process.kill)
        return process

    def add(self) -> subprocess.Popen[bytes]:
        """One more worker."""
        plain = ("--nthreads", "1", "--no-nanny", "--no-dashboard")
        place = ("--local-directory", str(self.folder))
        return self._start("worker", self.address, *plain, *place)


@contextlib.contextmanager
def machines(workers: int) -> Iterator[Machines]:
    """A scheduler with so many workers, gone afterwards."""
    with tempfile.TemporaryDirectory(prefix="mill-lane-tests-") as name:
        found = Machines(Path(name))
        with found.stack:
            found.workers = [found.add() for _ in range(workers)]
            yield found


class Watching(Quiet):
    """Does something once the first frame has come, and asks for what it is told to."""

    def __init__(self, act: object = None, wants: dict | None = None) -> None:
        super().__init__()
        self.act, self.wants, self.parts = act, wants or {}, 0

    def partly(self, result: object) -> None:
        """Count frames."""
        self.parts += 1
        if self.parts == 1 and callable(self.act):
            self.act()

    def hear(self) -> dict:
        """What is wanted, once a frame has come."""
        return self.wants if self.parts else {}


class TestMachines(NightCase):
    def begin_there(self, address: str, **sheet: object) -> int:
        """Begin a run for other machines; returns its number."""
        wanted = RunSheet.model_validate(
            {"name": "n/s.####", "machines": "others", "order": "straight", "exr": "float"} | sheet
        )
        with self.home.sessions.begin() as db:
            group = nights.begin(db, find_job(db, 1), wanted, self.out, scheduler=address)
            return group.id

    def request(self, run: int) -> SpreadRequest:
        with self.home.sessions() as db:
            task = db.scalars(select(Task).where(Task.kind == "spread")).one()
            return SPREAD.prepare(Context(db, self.home, task), Payload(run=run))

    def beauty(self, name: str, frame: int) -> np.ndarray:
        return read_exr(self.out / f"{name}/s.{frame:04d}.exr", exr_names())["beauty"]

    def test_two_workers_one_is_killed(self) -> None:
        """Every frame comes, those of the lost worker from the other, with the same bits as here;
        the scene was sent once.
        """
        self.begin(frames="1-6", order="straight", exr="float", name="here/s.####")
        self.render()
        with machines(2) as found:
            run = self.begin_there(found.address, frames="1-6", png=True)
            victim = found.workers[0]
            request = self.request(run)
            result = spread(request, Watching(lambda: victim.send_signal(signal.SIGKILL)))
        self.assertEqual(sorted(f.frame for f in result.frames), [1, 2, 3, 4, 5, 6])
        self.assertEqual(result.lost, {})
        for frame in range(1, 7):
            np.testing.assert_array_equal(self.beauty("n", frame), self.beauty("here", frame))
            self.assertTrue((self.out / f"n/s.{frame:04d}.png").exists())
        self.kept(run, result)

    def kept(self, run: int, result: SpreadResult) -> None:
        """Each frame is kept as it comes, once, and the run is done."""
        with self.home.sessions.begin() as db:
            task = db.scalars(select(Task).where(Task.kind == "spread")).one()
            context = Context(db, self.home, task)
            first = SpreadResult(frames=result.frames[:2])
            SPREAD.keep_part(context, Payload(run=run), first)
            SPREAD.keep_part(context, Payload(run=run), first)
            self.assertEqual(len(self.settings_in(db, run)["left"]), 4)
            task.result = SPREAD.keep(context, Payload(run=run), result, {})
            queue.end(db, task, "done")
        self.assertEqual(self.settings(run)["state"], "done")
        with self.home.sessions() as db:
            rows = list(db.scalars(select(Render).where(Render.group_id == run)))
        self.assertEqual(sorted(r.frame for r in rows), [1, 2, 3, 4, 5, 6])
        self.assertTrue(all(r.picture and r.measured["machine"] for r in rows))
        self.assertIn("6 of 6 frames", self.text())

    def settings_in(self, db: object, run: int) -> dict:
        return dict(db.get_one(RenderGroup, run).settings)  # type: ignore[attr-defined]

    def test_stopped_and_gone_on_with(self) -> None:
        """Stopping now gives up what is on its way, stopping after the frames keeps it."""
        with machines(1) as found:
            run = self.begin_there(found.address, frames="1-5")
            with self.assertRaises(Paused):
                spread(self.request(run), Watching(wants={"pause": True}))
            result = spread(self.request(run), Watching(wants={"finish": True}))
            self.assertTrue(result.stopped)
            self.assertIn(len(result.frames), (2, 3))  # the first, and what was handed out
            self.done("POST", f"/api/nights/{run}/stop", json={"now": True})
            self.assertEqual(self.settings(run)["state"], "stopped")
            self.done("POST", f"/api/nights/{run}/go-on", json={})
            self.refused("PUT", f"/api/nights/{run}/frames", json={"frames": "1"})
            self.assertEqual(do_tasks(self.home, "spread"), 1)
        self.assertEqual(self.settings(run)["state"], "done")

    def test_no_scheduler(self) -> None:
        """It says what to do, and nothing is lost."""
        sheet = {"frames": "1", "name": "n/s.#", "machines": "others", "read": True}
        said = self.refused("POST", "/api/jobs/1/nights", json=sheet)
        self.assertIn("--scheduler", said["hint"])
        run = self.begin_there("tcp://127.0.0.1:9", frames="1")
        with (
            unittest.mock.patch("mill_lane.work.machines.spread.PATIENCE", 0.5),
            self.assertRaises(MillError) as caught,
        ):
            spread(self.request(run), Quiet())
        self.assertIn("does not answer", caught.exception.message)
        with self.home.sessions.begin() as db:
            task = db.scalars(select(Task).where(Task.kind == "spread")).one()
            task.error = caught.exception.as_json()
            KINDS["spread"].ended_without(Context(db, self.home, task), Payload(run=run))
        self.assertEqual(self.settings(run)["state"], "stopped")
        self.assertIn("does not answer", self.text())

    def test_memory_that_fails_there(self) -> None:
        """The run goes on with less, with what is left."""
        run = self.begin_there("tcp://127.0.0.1:9", frames="1-3", rungs=["fewer_layers"])
        with self.home.sessions.begin() as db:
            task = db.scalars(select(Task).where(Task.kind == "spread")).one()
            failed = SpreadResult(lost={2: "memory did not suffice"}, memory=True)
            SPREAD.keep(Context(db, self.home, task), Payload(run=run), failed, {})
            queue.end(db, task, "done")
        settings = self.settings(run)
        self.assertEqual((settings["state"], settings["left"]), ("running", [1, 2, 3]))
        self.assertIn("from frame 2 on", settings["less"][0])


class TestFiles(unittest.TestCase):
    def test_pieces_of_a_file(self) -> None:
        """Kept when whole, refused when damaged, the oldest gone when there are too many."""
        with (
            tempfile.TemporaryDirectory() as name,
            unittest.mock.patch.dict(os.environ, {"MILL_LANE_CACHE": name}),
            unittest.mock.patch.object(remote, "MOST_KEPT", 12),
        ):
            sums = {
                b"hello world": "b94d27b9934d3e08a52e52d7da7dabfac484efe37a5380ee9088f7ace2efcde9",
                b"hello": "2cf24dba5fb0a30e26e83b2ac5b9e29e1b161e5c1fa7425e73043362938b9824",
            }  # SHA-256, as sha256sum gives it
            whole, short = sums.values()
            remote.take(whole, "a", 0, b"hello", False)
            self.assertFalse(remote.has(whole))
            remote.take(whole, "a", 5, b" world", True)
            self.assertTrue(remote.has(whole))
            with self.assertRaises(OSError):
                remote.take(short, "b", 0, b"hullo", True)
            self.assertFalse(remote.has(short))
            remote.take(short, "c", 0, b"hello", True)
            self.assertEqual((remote.has(whole), remote.has(short)), (False, True))
            with self.assertRaises(remote.MissingError):
                remote.render_frame("{}", whole, "")
