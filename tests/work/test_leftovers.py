"""What a task owns stays until it has ended; what nobody owns goes, and nothing else."""

from __future__ import annotations

import fcntl
import threading
from pathlib import Path

from sqlalchemy.orm import Session

from mill_lane.jobs import space
from mill_lane.jobs.opening import open_file
from mill_lane.serve import open_for_serving
from mill_lane.store.files import list_file
from mill_lane.store.models import SceneVersion, StoredFile, Task
from mill_lane.store.transactions import write
from mill_lane.work import leftovers, queue
from mill_lane.work.ending import TEMPORARY, sweep
from mill_lane.work.failures import died
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.open import OPEN
from mill_lane.work.kinds.render import RENDER, Payload
from mill_lane.work.live_files import LiveFiles
from mill_lane.work.worker import Worker
from tests.homes import WithHome, furnished


class TestLeftovers(WithHome):
    def setUp(self) -> None:
        super().setUp()
        self.home = furnished(self.home.folder / "furnished")
        self.scratch = self.home.scratch

    def file(self, name: str, size: int = 10) -> Path:
        path = self.scratch / name
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(b"x" * size)
        return path

    def accepted(self, name: str = "upload-1.glb") -> tuple[Path, int]:
        """An upload, and the task that owns it."""
        path = self.file(name)
        made = write(self.home.sessions, lambda db: open_file(db, path.name, "shop.glb", True))
        return path, made.task

    def end(self, number: int, state: str, **more: object) -> Task:
        def inner(db: Session) -> Task:
            task = db.get_one(Task, number)
            queue.end(db, task, state, **more)
            return task

        return write(self.home.sessions, inner)

    def test_an_accepted_upload_is_there_after_the_next_start(self) -> None:
        """As after a clean stop, with the task still waiting."""
        path, _ = self.accepted()
        open_for_serving(self.home.folder, None)
        self.assertTrue(path.is_file())

    def test_what_nobody_owns_goes(self) -> None:
        remains = [self.file("tmp123.glb"), self.file("upload-9.glb"), self.file("task-999/state")]
        size = leftovers.sweep_scratch(self.home)
        self.assertEqual(size, 30)
        self.assertEqual([p for p in remains if p.exists()], [])
        self.assertEqual(list(self.scratch.iterdir()), [])

    def test_what_is_being_received_stays(self) -> None:
        path = self.file("upload-2.glb")
        with path.open("rb") as f:
            fcntl.flock(f, fcntl.LOCK_SH)
            leftovers.sweep_scratch(self.home)
            self.assertTrue(path.exists())
        leftovers.sweep_scratch(self.home)
        self.assertFalse(path.exists())

    def test_when_a_task_lets_go(self) -> None:
        """Done or cancelled it owns nothing; failed through no fault of the file it does."""
        states = (
            ("done", {}, False),
            ("cancelled", {}, False),
            ("failed", {"error": {"error": "damaged"}}, False),
            ("failed", {"error": died(-9)}, True),
        )
        for i, (state, more, stays) in enumerate(states):
            with self.subTest(state=state, more=more):
                path, number = self.accepted(f"upload-{i}.glb")
                task = self.end(number, state, **more)
                sweep(self.home, OPEN, task)
                self.assertEqual(path.exists(), stays)
                leftovers.sweep_scratch(self.home)
                self.assertEqual(path.exists(), stays)

    def test_what_is_cancelled_before_it_began_is_removed_by_itself(self) -> None:
        path, number = self.accepted()
        waiting, _ = self.accepted("upload-2.glb")

        def inner(db: Session) -> None:
            queue.cancel(db, db.get_one(Task, number))

        write(self.home.sessions, inner)
        worker = Worker(self.home)
        worker.tidy()
        self.assertEqual((path.exists(), waiting.exists()), (False, True))
        again = self.file("upload-3.glb")
        worker.tidy()  # not as soon as that
        self.assertTrue(again.exists())

    def test_checkpoints(self) -> None:
        """A paused or interrupted render keeps its own, a cancelled one does not."""
        payload = Payload(render=1)
        for state, more, stays in (
            ("paused", {}, True),
            ("queued", {}, True),
            ("failed", {"error": died(-9)}, True),
            ("failed", {"error": {"error": "no such layer"}}, False),
            ("cancelled", {}, False),
            ("done", {}, False),
        ):
            with self.subTest(state=state, more=more):
                number = write(self.home.sessions, lambda db: queue.put(db, RENDER, payload).id)
                state_file = self.file(f"task-{number}/state.npz")
                (state_file.parent / TEMPORARY).mkdir()
                task = self.end(number, state, **more)
                task.finished = None
                sweep(self.home, RENDER, task)
                self.assertEqual(state_file.exists(), stays)
                self.assertFalse((state_file.parent / TEMPORARY).exists())
                leftovers.sweep_scratch(self.home)
                self.assertEqual(state_file.exists(), stays)

    def test_temporary_files_of_a_killed_process_go(self) -> None:
        number = write(self.home.sessions, lambda db: queue.put(db, RENDER, Payload(render=1)).id)
        kept = self.file(f"task-{number}/state.npz")
        (kept.parent / TEMPORARY).mkdir()
        (kept.parent / TEMPORARY / "unzipped").write_bytes(b"x" * 1000)
        self.assertEqual(leftovers.sweep_scratch(self.home), 1000)
        self.assertTrue(kept.exists())

    def test_states_of_looks_that_nobody_took(self) -> None:
        """What is wanted and shown last stays; what was to become a trial, and did not, goes."""
        files = LiveFiles(self.home.looks, 1)
        files.look()
        files.tell({"number": 1}, b"")
        for name in ("1-5.state", "1-6.state.part.npz", "1.json.77.part"):
            (self.home.looks / name).write_bytes(b"x")
        leftovers.sweep(self.home)
        self.assertEqual({p.name for p in self.home.looks.iterdir()}, {"1.look", "1.seen"})

    def test_a_task_of_a_later_edition_keeps_its_folder(self) -> None:
        def inner(db: Session) -> int:
            task = queue.put(db, RENDER, Payload(render=1))
            task.kind = "of a later edition"
            return task.id

        kept = self.file(f"task-{write(self.home.sessions, inner)}/state")
        leftovers.sweep_scratch(self.home)
        self.assertTrue(kept.exists())

    def test_the_store_holds_what_is_listed_alone(self) -> None:
        loose = self.home.files.folder / "ab" / ("ab" * 32)
        loose.parent.mkdir(exist_ok=True)
        loose.write_bytes(b"x" * 50)
        with self.home.sessions() as db:
            listed = [self.home.files.path(f.hash) for f in db.query(StoredFile)]
        self.assertTrue(listed)
        self.assertEqual(leftovers.sweep_store(self.home), 50)
        self.assertFalse(loose.exists())
        self.assertTrue(all(p.exists() for p in listed))

    def test_sweeping_while_files_come_in(self) -> None:
        """Whatever is listed at any moment is there, however often is swept."""
        stop = threading.Event()

        def sweeping() -> None:
            while not stop.is_set():
                leftovers.sweep_store(self.home)

        thread = threading.Thread(target=sweeping)
        thread.start()
        try:
            for i in range(40):
                path = self.file(f"result-{i}")
                path.write_text(str(i))
                taken = self.home.files.put(path)
                digest = write(self.home.sessions, lambda db, t=taken: list_file(db, t))
                self.assertTrue(self.home.files.path(digest).exists())
        finally:
            stop.set()
            thread.join()
        with self.home.sessions() as db:
            for f in db.query(StoredFile):
                self.assertTrue(self.home.files.path(f.hash).exists())

    def held(self) -> dict[str, space.Holding]:
        with self.home.sessions() as db:
            return {h.name: h for h in space.survey(db, self.home)}

    def test_what_the_home_takes(self) -> None:
        """Every byte of the folder is in one kind, and freeing takes what it says."""
        self.accepted()
        _, failed = self.accepted("upload-2.glb")
        self.end(failed, "failed", error=died(-9))
        self.file("task-77/remains", 300)
        path = self.file("made")
        taken = self.home.files.put(path)
        write(self.home.sessions, lambda db: list_file(db, taken))  # nothing names it
        (self.home.folder / "mill-lane.sqlite.before-0001").write_bytes(b"x" * 70)
        held = self.held()
        sizes = {n: held[n].size for n in ("work", "failed", "leftovers", "unused", "copies")}
        self.assertEqual(
            sizes, {"work": 10, "failed": 10, "leftovers": 300, "unused": 10, "copies": 70}
        )
        every = sum(h.size for h in held.values())
        on_disk = sum(p.stat().st_size for p in self.home.folder.rglob("*") if p.is_file())
        self.assertLess(abs(every - on_disk), 1000)
        scenes = held["scenes"].size
        self.assertGreater(scenes, 100_000)
        self.assertEqual(space.free(self.home, ["unused", "leftovers"]), 310)
        self.assertEqual(space.free(self.home, ["copies"]), 70)
        self.assertEqual(space.free(self.home, ["failed"]), 10)
        held = self.held()
        self.assertEqual([held[n].size for n in sizes], [10, 0, 0, 0, 0])
        self.assertEqual(held["scenes"].size, scenes)
        with self.home.sessions() as db:
            version = db.query(SceneVersion).first()
            assert version is not None
            self.assertTrue(self.home.files.path(version.file_hash).exists())

    def test_kinds_of_task_agree_with_the_sweep(self) -> None:
        for kind in KINDS:
            self.assertIsInstance(kind.resumable, bool)
            self.assertTrue(callable(kind.left_something))
