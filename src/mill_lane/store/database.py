"""Opening the database: one file, WAL, foreign keys, and the migrations run first."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine, event
from sqlalchemy.orm import Session, sessionmaker

from mill_lane.store.bell import FILE, ring
from mill_lane.store.models import Task

Sessions = sessionmaker[Session]
RINGS = "rings"  # in what a session knows: tasks were changed
WAIT = 10  # seconds that a writer waits for another


def open_engine(path: Path) -> Engine:
    """Make an engine on an SQLite file: WAL, foreign keys on."""
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": WAIT})

    @event.listens_for(engine, "connect")
    def _settings(connection: Any, _: Any) -> None:
        cursor = connection.cursor()
        cursor.execute("PRAGMA journal_mode=WAL")
        cursor.execute("PRAGMA foreign_keys=ON")
        # A file is deleted once a commit no longer needs it: the commit must be on the disk then.
        cursor.execute("PRAGMA synchronous=FULL")
        cursor.close()

    return engine


def migrate(engine: Engine, path: Path | None = None) -> None:
    """Bring the tables up to date, all or nothing.

    Parameters
    ----------
    engine : Engine
    path : Path, optional
        The database's file.  Before tables with content are changed it is copied beside itself, as
        NAME.before-REVISION.
    """
    # Read where tables may have to be changed alone: the processes that compute never do that.
    from alembic import command
    from alembic.config import Config
    from alembic.migration import MigrationContext
    from alembic.script import ScriptDirectory

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).with_name("migrations")))
    with engine.connect() as connection:
        have = MigrationContext.configure(connection).get_current_revision()
    head = ScriptDirectory.from_config(config).get_current_head()
    if have == head:
        return
    if have is not None and path is not None:
        copy = path.with_name(f"{path.name}.before-{head}")
        copy.unlink(missing_ok=True)
        with engine.connect() as connection:
            connection.exec_driver_sql("VACUUM INTO ?", (str(copy),))
    with engine.begin() as connection:
        # SQLite changes tables within a transaction, but the driver begins none for that.
        connection.exec_driver_sql("BEGIN IMMEDIATE")
        config.attributes["connection"] = connection
        command.upgrade(config, "head")


def open_sessions(path: Path, migrated: bool = False) -> Sessions:
    """Make a session factory on a database, brought up to date unless it is said to be."""
    path.parent.mkdir(parents=True, exist_ok=True)
    engine = open_engine(path)
    if not migrated:
        migrate(engine, path)
    sessions = sessionmaker(engine, expire_on_commit=False)
    ring_for_tasks(sessions, path.with_name(FILE))
    return sessions


def ring_for_tasks(sessions: Sessions, bell: Path) -> None:
    """Ring the bell whenever tasks were queued or changed, once that is committed."""

    @event.listens_for(sessions, "after_flush")
    def _changed(session: Session, _: Any) -> None:
        if any(isinstance(row, Task) for row in (*session.new, *session.dirty)):
            session.info[RINGS] = True

    @event.listens_for(sessions, "after_commit")
    def _committed(session: Session) -> None:
        if session.info.pop(RINGS, False):
            ring(bell)

    @event.listens_for(sessions, "after_rollback")
    def _rolled_back(session: Session) -> None:
        session.info.pop(RINGS, None)
