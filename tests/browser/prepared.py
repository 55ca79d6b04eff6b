"""An installation whose demo is built, weighed, looked at and asked what could be trimmed: made
once for these sources, copied by whoever needs it.  `python -m tests.browser.prepared` makes it.
"""

from __future__ import annotations

import sqlite3
import time
from contextlib import closing
from pathlib import Path

from mill_lane.store.bell import FILE
from tests.browser.server import Server
from tests.homes import make_all
from tests.kept import kept

SECONDS = 600.0  # until it is given up
QUIET = 3.0  # seconds without a task until nothing more is to come


def prepared() -> Path:
    """The folder of the installation, made where there is none for these sources."""
    return kept("prepared", _make)


def _make(path: Path) -> None:
    server = Server(path, "small")
    try:
        _until_idle(server.home)
    finally:
        server.close()
    server.home.joinpath(FILE).unlink(missing_ok=True)  # a pipe cannot be copied


def _until_idle(home: Path) -> None:
    end, quiet = time.monotonic() + SECONDS, time.monotonic()
    database = home / "mill-lane.sqlite"
    count = "SELECT count(*) FROM tasks WHERE "
    while time.monotonic() - quiet < QUIET:
        time.sleep(0.2)
        with closing(sqlite3.connect(f"file:{database}?mode=ro", uri=True, timeout=10)) as db:
            going = db.execute(count + "state IN ('queued', 'running')").fetchone()[0]
            asked = db.execute(count + "kind = 'propose' AND state = 'done'").fetchone()[0]
        if going or not asked:
            quiet = time.monotonic()
        if time.monotonic() > end:
            raise RuntimeError("the demo was not prepared in time")


if __name__ == "__main__":
    prepared()
    make_all()
