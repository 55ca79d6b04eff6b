"""The database, its migrations, files by their content, transactions that are tried again."""

from __future__ import annotations

import os
import tempfile
import threading
from pathlib import Path
from unittest import mock

from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import select, text
from sqlalchemy.exc import IntegrityError, OperationalError
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.jobs.bootstrap import bootstrap
from mill_lane.jobs.lookup import find_job
from mill_lane.store import transactions
from mill_lane.store.files import list_file
from mill_lane.store.home import lock
from mill_lane.store.models import Base, Render, RenderGroup, StoredFile
from mill_lane.store.transactions import write
from mill_lane.work.runs import next_number
from tests.homes import WithHome


class TestStore(WithHome):
    def test_database_settings(self) -> None:
        with self.home.sessions() as db:
            self.assertEqual(db.execute(text("PRAGMA journal_mode")).scalar(), "wal")
            self.assertEqual(db.execute(text("PRAGMA foreign_keys")).scalar(), 1)

    def test_migrations_make_the_models_tables(self) -> None:
        with self.home.sessions() as db:
            context = MigrationContext.configure(db.connection())
            self.assertEqual(compare_metadata(context, Base.metadata), [])

    def test_files_by_content(self) -> None:
        keys = []
        for name in ("a", "b"):
            path = self.home.scratch / name
            path.write_bytes(b"the same")
            taken = self.home.files.put(path)
            with self.home.sessions() as db:
                keys.append(list_file(db, taken))
                list_file(db, taken)  # once more after a failed transaction: nothing else
                db.commit()
        self.assertEqual(keys[0], keys[1])
        self.assertEqual(self.home.files.path(keys[0]).read_bytes(), b"the same")
        with self.home.sessions() as db:
            self.assertEqual([f.size for f in db.scalars(select(StoredFile))], [8])
        for wrong in ("../../etc/passwd", "A" * 64, ""):
            with self.assertRaises(ValueError):
                self.home.files.path(wrong)

    def test_files_from_another_file_system(self) -> None:
        """Where a file cannot be renamed it is copied, synced, and only then stands in its
        place.
        """
        if not os.access("/dev/shm", os.W_OK):
            self.skipTest("there is no other file system here")
        with tempfile.NamedTemporaryFile(dir="/dev/shm", delete=False) as f:
            f.write(b"x" * 3_000_000)
        path = Path(f.name)
        taken = self.home.files.put(path)
        with self.home.sessions() as db:
            list_file(db, taken)
            db.commit()
        self.assertFalse(path.exists())
        self.assertEqual(self.home.files.path(taken.hash).stat().st_size, 3_000_000)

    def test_one_server_a_home(self) -> None:
        held = lock(self.home.folder)
        with self.assertRaises(MillError):
            lock(self.home.folder)
        held.close()
        lock(self.home.folder).close()


class TestTransactions(WithHome):
    def test_a_locked_database_is_tried_again(self) -> None:
        tries: list[int] = []

        def work(db: Session) -> str:
            tries.append(1)
            if len(tries) < 3:
                raise OperationalError("x", {}, Exception("database is locked"))
            return "kept"

        with mock.patch.object(transactions, "PAUSE", 0.0):
            self.assertEqual(write(self.home.sessions, work), "kept")
        self.assertEqual(len(tries), 3)

    def test_in_the_end_it_is_told(self) -> None:
        def work(db: Session) -> None:
            raise IntegrityError("x", {}, Exception("unique"))

        with mock.patch.object(transactions, "PAUSE", 0.0), self.assertRaises(IntegrityError):
            write(self.home.sessions, work)

    def test_numbers_are_given_by_the_database(self) -> None:
        """Writers at once: every number is given once, none is left out, nobody is refused."""
        with self.home.sessions() as db:
            bootstrap(db, "small")
        failures: list[BaseException] = []

        def add() -> None:
            def work(db: Session) -> None:
                job = find_job(db, 1)
                db.add(
                    RenderGroup(
                        job_id=1, kind="run", number=next_number(RenderGroup, job.id, "run")
                    )
                )

            try:
                for _ in range(10):
                    write(self.home.sessions, work)
            except BaseException as e:
                failures.append(e)

        threads = [threading.Thread(target=add) for _ in range(4)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        self.assertEqual(failures, [])
        with self.home.sessions() as db:
            numbers = sorted(db.scalars(select(RenderGroup.number)))
        self.assertEqual(numbers, list(range(1, 41)))
        self.assertIs(next_number(Render, 1, "trial").is_clause_element, True)
