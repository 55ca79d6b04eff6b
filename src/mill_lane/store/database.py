"""Opening the database: one file, WAL, foreign keys, and the migrations run first."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.orm import Session, sessionmaker

Sessions = sessionmaker[Session]


def open_engine(path: Path) -> Engine:
    """An engine on an SQLite file: WAL, foreign keys on, writers wait up to 10 s for each other."""
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 10})

    @event.listens_for(engine, "connect")
    def _settings(connection: Any, _: Any) -> None:
        cursor = connection.cursor()
        cursor.execute("PRAGMA journal_mode=WAL")
        cursor.execute("PRAGMA foreign_keys=ON")
        cursor.execute("PRAGMA synchronous=NORMAL")
        cursor.close()

    return engine


def migrate(engine: Engine) -> None:
    """Bring the tables up to date."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).with_name("migrations")))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")


def open_sessions(path: Path) -> Sessions:
    """A session factory on a migrated database."""
    path.parent.mkdir(parents=True, exist_ok=True)
    engine = open_engine(path)
    migrate(engine)
    return sessionmaker(engine, expire_on_commit=False)
