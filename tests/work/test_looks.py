"""First looks: drawn by the worker, kept with the version, never a trial."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import numpy as np
from sqlalchemy import select

from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import read_pixels
from mill_lane.jobs.looks import ask_for_look, look_at, picture_of
from mill_lane.jobs.lookup import find_job, find_version
from mill_lane.store.models import Render, StoredFile, Task
from mill_lane.work import queue
from mill_lane.work.worker import Worker
from tests.homes import furnished
from tests.scenes import small_demo


class TestLooks(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.home = furnished(Path(keep.name))
        self.addCleanup(self.home.sessions.kw["bind"].dispose)
        self.worker = Worker(self.home)
        self.addCleanup(lambda: self.worker.child and self.worker.child.kill())

    def asked(self, camera: str = "", frame: int | None = None) -> int:
        with self.home.sessions() as db:
            number = ask_for_look(db, find_job(db, 1), camera, frame).id
            db.commit()
        return number

    def test_it_is_drawn_and_kept_and_asked_for_once(self) -> None:
        number = self.asked(frame=60)
        self.assertEqual(self.asked(frame=60), number)  # while it waits
        while self.worker.one():
            pass
        self.assertEqual(self.asked(frame=60), number)  # and once it is there
        with self.home.sessions() as db:
            task = db.get_one(Task, number)
            self.assertEqual(task.state, "done", task.error)
            found = look_at(db, find_version(db, find_job(db, 1)), frame=60)
            assert found is not None
            self.assertTrue(found.shown and not found.refining)
            picture = read_pixels(picture_of(self.home, task), "look")
            codes = read_pixels(picture_of(self.home, task, meshes=True), "meshes").astype(int)
            self.assertEqual(db.scalars(select(Render)).all(), [])
            kept = {f.hash for f in db.scalars(select(StoredFile))}
        self.assertLessEqual({task.result["picture"], task.result["meshes"]}, kept)
        self.assertEqual((picture.shape, codes.shape), ((270, 480, 3), (270, 480, 3)))
        self.assertGreater(float(picture.std()), 5.0)
        numbers = codes[..., 0] + 256 * codes[..., 1] + 65536 * codes[..., 2] - 1
        scene = open_scene(small_demo())
        seen = {scene.meshes[n].name for n in np.unique(numbers[numbers >= 0])}
        self.assertIn("counter", seen)
        self.assertLess(numbers.max(), len(scene.meshes))
        self.assertEqual(list(self.home.scratch.iterdir()), [])

    def test_what_there_is_not(self) -> None:
        with self.assertRaises(MillError) as caught:
            self.asked(frame=100_000)
        self.assertIn("frame 100000", caught.exception.message)
        with self.assertRaises(MillError) as caught:
            self.asked(camera="from the moon")
        self.assertIn("It has", caught.exception.hint)

    def test_stopped_it_leaves_nothing(self) -> None:
        number = self.asked(frame=30)
        with self.home.sessions() as db:
            queue.cancel(db, db.get_one(Task, number))
            db.commit()
        while self.worker.one():
            pass
        with self.home.sessions() as db:
            task = db.get_one(Task, number)
            self.assertEqual(task.state, "cancelled")
            version = find_version(db, find_job(db, 1))
            found = look_at(db, version, frame=30)
        assert found is not None
        self.assertFalse(found.shown)
        self.assertNotEqual(self.asked(frame=30), number)
