"""What comes in is limited, told, and never lost: bodies, disks, sessions, writers at once."""

from __future__ import annotations

import errno
import io
import json
import threading
import zipfile
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from sqlalchemy import select
from sqlalchemy.exc import OperationalError

from mill_lane.core import disk
from mill_lane.core.render.state import write_state
from mill_lane.jobs import recipes
from mill_lane.jobs.lookup import find_job, recipe_of
from mill_lane.store.models import Render, Task
from mill_lane.store.transactions import write
from mill_lane.web.shared.security import LONGEST_BODY
from mill_lane.work import queue
from mill_lane.work.kinds.base import Nothing
from mill_lane.work.kinds.prepare import PREPARE
from mill_lane.work.limited import limited
from mill_lane.work.signs import Sign
from mill_lane.work.supervisor import Watch
from tests.scenes import small_demo, write_sky
from tests.web.case import WebCase

SMALL = {"width": 32, "height": 18, "samples": 1, "min_samples": 1, "whole": True, "device": 1}


class TestBodies(WebCase):
    def test_long_bodies_are_refused(self) -> None:
        """Whether they say so or come in pieces; what is an upload is let in."""
        long = b'{"name": "' + b"x" * LONGEST_BODY + b'"}'
        kind = {"content-type": "application/json"}
        self.refused("PUT", "/api/jobs/1/name", 413, content=long, headers=kind)
        pieces = (long[i : i + 65536] for i in range(0, len(long), 65536))
        self.refused("PUT", "/api/jobs/1/name", 413, content=pieces, headers=kind)
        content = small_demo().read_bytes() + b"\0" * LONGEST_BODY
        self.done("POST", "/api/scenes?name=a.glb", content=content)

    def test_brackets_within_brackets(self) -> None:
        kind = {"content-type": "application/json"}
        body = b"[" * 500_000
        answer = self.client.put("/api/jobs/1/name", content=body, headers=kind)
        self.assertIn(answer.status_code, (400, 422))

    def test_text_that_is_none(self) -> None:
        for name in ("\ud800", "a\0b"):
            body = json.dumps({"name": name}).encode()
            kind = {"content-type": "application/json"}
            answer = self.client.put("/api/jobs/1/name", content=body, headers=kind)
            self.assertLess(answer.status_code, 500, repr(name))
        self.page("/")

    def test_numbers_that_are_none(self) -> None:
        kind = {"content-type": "application/json"}
        self.done("POST", "/api/jobs/1/trials", json=SMALL)
        with self.home.sessions() as db:
            task = db.scalars(select(Task.id).where(Task.kind == "render")).one()
        for body in (b'{"priority": [NaN, 1]}', b'{"priority": [1e999, 1]}'):
            answer = self.client.put(f"/api/tasks/{task}/wants", content=body, headers=kind)
            self.assertEqual(answer.status_code, 422, body)
        for path in ("/jobs/1/trials?crop=inf,0,1,1", "/jobs/9223372036854775808/scene"):
            answer = self.client.get(path, headers={"accept": "text/html"})
            self.assertLess(answer.status_code, 500, path)


class TestFullDisk(WebCase):
    def free(self, size: int) -> Any:
        usage = mock.Mock(total=10**12, used=0, free=size + disk.RESERVE)
        return mock.patch.object(disk.shutil, "disk_usage", return_value=usage)

    def test_an_upload_that_does_not_fit(self) -> None:
        content = b"x" * 1_200_000
        with self.free(300_000):
            said = self.refused("POST", "/api/scenes?name=a.glb", content=content)
        self.assertIn("needs 1.2 MB, 300 kB free", said["error"])
        self.assertEqual(list(self.home.scratch.iterdir()), [])

    def test_a_disk_that_fills_up_meanwhile(self) -> None:
        full = OSError(errno.ENOSPC, "No space left on device")
        with mock.patch("mill_lane.web.shared.uploads.os.fsync", side_effect=full):
            said = self.refused("POST", "/api/scenes?name=a.glb", content=b"x" * 1000)
        self.assertIn("The disk is full", said["error"])
        self.assertEqual(list(self.home.scratch.iterdir()), [])

    def test_a_database_that_finds_no_room(self) -> None:
        error = OperationalError("x", {}, Exception("database or disk is full"))
        with mock.patch("mill_lane.web.home.routes.opening.rename", side_effect=error):
            said = self.refused("PUT", "/api/jobs/1/name", 507, json={"name": "Dawn"})
        self.assertIn("disk is full", said["error"])
        self.page("/")


class TestHealth(WebCase):
    def serve_with(self, watch: Watch) -> Any:
        from dataclasses import replace

        from fastapi.testclient import TestClient

        from mill_lane.web.app import create_app
        from mill_lane.web.shared.settings import Settings

        settings = replace(Settings(self.home), watch=lambda: watch)
        return TestClient(create_app(settings), base_url="http://127.0.0.1:8410")

    def test_it_tells_of_every_part(self) -> None:
        watch = Watch(True, 12, 1, 0.1, False, Sign("idle", "", 34))
        answer = self.serve_with(watch).get("/healthz")
        self.assertEqual(answer.status_code, 200)
        said = answer.json()
        self.assertEqual(said["status"], "ok")
        self.assertEqual(said["worker"]["pid"], 12)
        self.assertTrue(said["child"]["alive"])
        self.assertEqual(said["queue"]["running"], 0)
        self.assertGreater(said["disk"]["free_bytes"], 0)
        self.assertTrue(said["database"]["writable"])

    def test_when_work_is_not_done_it_says_so(self) -> None:
        """With 503 to whoever watches, and in words on every page."""
        for watch, word in (
            (Watch(False, None, 3, 5.0, False, Sign()), "ended"),
            (Watch(True, 12, 1, 40.0, True, Sign("works")), "not answer"),
            (Watch(True, 12, 1, 0.1, False, Sign("keeps", "The disk is full.")), "disk is full"),
        ):
            with self.subTest(word):
                client = self.serve_with(watch)
                answer = client.get("/healthz")
                self.assertEqual(answer.status_code, 503)
                self.assertIn(word, " ".join(answer.json()["troubles"]))
                page = client.get("/", headers={"accept": "text/html"}).text
                self.assertIn(word, page)

    def test_what_waits_for_another_lane_is_no_trouble(self) -> None:
        """Weighing waits while a first look is drawn: the first lane is idle for a while."""
        watch = Watch(True, 12, 1, 0.1, False, Sign("idle"), doing_seconds=500.0)
        client = self.serve_with(watch)
        with self.home.sessions() as db:
            queue.put(db, PREPARE, Nothing())
            db.commit()
        answer = client.get("/healthz")
        self.assertEqual(answer.status_code, 503)
        self.assertIn("1 tasks wait", " ".join(answer.json()["troubles"]))
        with self.home.sessions() as db:
            queue.put(db, PREPARE, Nothing()).state = "running"
            db.commit()
        self.assertEqual(client.get("/healthz").status_code, 200)

    def test_a_database_that_is_locked(self) -> None:
        import sqlite3

        other = sqlite3.connect(self.home.database)
        other.execute("BEGIN IMMEDIATE")
        try:
            answer = self.client.get("/healthz")
        finally:
            other.rollback()
            other.close()
        self.assertEqual(answer.status_code, 503)
        self.assertFalse(answer.json()["database"]["writable"])


class TestAtOnce(WebCase):
    """Two writers at the same moment."""

    def test_trials_have_numbers_of_their_own(self) -> None:
        statuses: list[int] = []

        def post() -> None:
            for _ in range(6):
                answer = self.client.post("/api/jobs/1/trials", json=SMALL)
                statuses.append(answer.status_code)

        threads = [threading.Thread(target=post) for _ in range(6)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        self.assertEqual(set(statuses), {200})
        with self.home.sessions() as db:
            numbers = sorted(db.scalars(select(Render.number)))
        self.assertEqual(numbers, list(range(1, 37)))

    def test_no_update_is_lost(self) -> None:
        """Somebody changes a setting while the sky's picture is put in: both are there."""
        reading, kept = threading.Event(), recipes.merge

        def slow(*given: Any) -> Any:
            made = kept(*given)
            if "environment_picture" in given[1]:
                reading.set()
                threading.Event().wait(0.4)
            return made

        picture = f"{'a' * 64}/16x8/dawn.hdr"

        def use() -> None:
            def inner(db: Any) -> None:
                recipes.use_sky(db, find_job(db, 1), picture)

            write(self.home.sessions, inner)

        with mock.patch.object(recipes, "merge", slow):
            thread = threading.Thread(target=use)
            thread.start()
            self.assertTrue(reading.wait(10))
            self.done("PUT", "/api/jobs/1/recipes/final", json={"bounces": 7})
            thread.join()
        with self.home.sessions() as db:
            final = recipe_of(db, find_job(db, 1), "final")
        self.assertEqual((final.bounces, final.environment_picture), (7, picture))


class TestInAProcessOfItsOwn(WebCase):
    def test_a_sky_that_takes_too_much(self) -> None:
        """What is no picture, and one that needs more memory than it may."""
        said = self.refused("POST", "/api/jobs/1/sky?name=a.hdr", content=b"#?RADIANCE\nnothing")
        self.assertIn("a.hdr", said["error"])
        path = write_sky(self.folder / "b.hdr", np.ones((8, 16, 3)))
        self.done("POST", "/api/jobs/1/sky?name=b.hdr", content=path.read_bytes())
        # More than the modules of this test take by themselves: telling of it takes some, too.
        with self.assertRaisesRegex(Exception, "over 0.6 GB"):
            limited(fill, 10**9, memory=6 * 10**8)
        with self.assertRaisesRegex(Exception, "over 1 s"):
            limited(sleep, 30, seconds=1.0)
        with self.assertRaisesRegex(Exception, "crash"):
            limited(abort)

    def session(self, arrays: dict[str, Any], compressed: bool = False) -> bytes:
        path = self.folder / "s"
        if compressed:
            with path.open("wb") as f:
                np.savez_compressed(f, **arrays)
        else:
            write_state(path, arrays)
        return path.read_bytes()

    def test_a_session_is_never_larger_than_it_is(self) -> None:
        """Packed arrays, headers that claim more, and a key that is a picture: all refused."""
        huge = np.zeros(300_000_000, np.uint8)
        plain = {"key": np.array("k"), "about": np.array("{}")}
        cases = {
            "packed": self.session({**plain, "film": huge[:1_000_000]}, compressed=True),
            "claimed": self.claiming(),
            "no archive": b"\x93NUMPY" + b"x" * 100,
            "key": self.session({**plain, "key": np.zeros(10)}),
        }
        for name, content in cases.items():
            with self.subTest(name):
                said = self.refused("POST", "/api/jobs/1/sessions?name=x.session", content=content)
                self.assertTrue(said["hint"])
        self.assertEqual(list(self.home.scratch.iterdir()), [])

    def claiming(self) -> bytes:
        """An archive whose array says it has 3 GB."""
        head = io.BytesIO()
        shape = {"descr": "|u1", "fortran_order": False, "shape": (3 * 10**9,)}
        np.lib.format.write_array_header_1_0(head, shape)
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as z:
            z.writestr("about.npy", head.getvalue())
            z.writestr("key.npy", head.getvalue())
        return out.getvalue()


def fill(size: int) -> int:
    return len(np.ones(size, np.uint8).tobytes())


def sleep(seconds: float) -> float:
    import time

    time.sleep(seconds)
    return seconds


def abort() -> None:
    import os

    os.abort()


class TestSpace(WebCase):
    def test_the_page_and_freeing(self) -> None:
        (self.home.scratch / "upload-x.glb").write_bytes(b"x" * 5000)
        page = self.page("/space")
        self.assertIn("5.00 kB", page.get_text())
        go = self.done("POST", "/api/space/free", json={"names": ["unused", "leftovers"]})["go"]
        self.assertFalse((self.home.scratch / "upload-x.glb").exists())
        self.assertIn("5.00 kB freed", self.page(str(go)).get_text())
        self.assertIn("nothing of that kind", self.page("/space").get_text())
        self.refused("POST", "/api/space/free", json={"names": ["scenes"]})
        self.page("/jobs/1/scene")

    def test_a_scene_that_is_no_longer_kept_cannot_be_read_again(self) -> None:
        made = self.done("POST", "/api/scenes?name=a.glb", content=small_demo().read_bytes())
        task = made["task"]
        with self.home.sessions() as db:
            row = db.get_one(Task, task)
            row.state, row.error = "failed", {"error": "killed", "hint": "x", "again": True}
            db.commit()
        page = self.page(f"/jobs/{made['job']}/scene")
        self.assertIn("Read it again", page.get_text())
        self.done("POST", "/api/space/free", json={"names": ["failed"]})
        said = self.refused("POST", f"/api/tasks/{task}/retry")
        self.assertIn("no longer kept", said["error"])
        self.assertEqual(list(Path(self.home.scratch).iterdir()), [])
