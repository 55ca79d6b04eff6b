"""What wakes the lanes of a worker: the bell, and as a net that the database was changed.

Nothing is asked of the database while nothing happens but, once a second, whether somebody wrote.
"""

from __future__ import annotations

import os
import sqlite3
import threading
import time
from contextlib import closing, suppress

from mill_lane.store.bell import listening
from mill_lane.store.home import Home

NET = 1.0  # seconds between two looks whether something was missed


class Changes:
    """Whether another connection has changed a database: `PRAGMA data_version`, which reads a
    counter and takes no lock.
    """

    def __init__(self, connection: sqlite3.Connection) -> None:
        self.connection = connection
        self.version = self._read()

    def _read(self) -> int | None:
        try:
            row = self.connection.execute("PRAGMA data_version").fetchone()
        except sqlite3.Error:
            return None  # what is wrong is told by whoever works with it
        return int(row[0])

    def met(self) -> bool:
        """Whether it was changed since this was asked last, or cannot be told."""
        before, self.version = self.version, self._read()
        return self.version is None or self.version != before


class Waker:
    """Wakes the threads of a process that wait for work."""

    def __init__(self, home: Home, parent: int) -> None:
        self.home, self.parent = home, parent
        self.count = 0  # goes up whenever there may be something to do
        self._condition = threading.Condition()

    def start(self) -> None:
        """Begin to listen, on a thread of its own."""
        threading.Thread(target=self._listen, name="waker", daemon=True).start()

    def _listen(self) -> None:
        while True:
            # No file handles left, say: that may be over soon, and until then everybody looks.
            with suppress(OSError, sqlite3.Error):
                self._hear()
            self.wake()
            time.sleep(NET)

    def _hear(self) -> None:
        # Of this thread alone, and without a transaction: each look is one of its own.
        database = sqlite3.connect(self.home.database, isolation_level=None)
        with closing(database), listening(self.home.bell) as bell:
            changes = Changes(database)
            while True:
                rung = bell.wait(NET)
                if changes.met() or rung or os.getppid() != self.parent:
                    self.wake()

    def wake(self) -> None:
        """Wake everybody."""
        with self._condition:
            self.count += 1
            self._condition.notify_all()

    def wait(self, count: int, seconds: float) -> bool:
        """Wait until it is no longer as it was at that count, so long at most; whether it is."""
        end = time.monotonic() + seconds
        with self._condition:
            while self.count == count:
                left = end - time.monotonic()
                if left <= 0:
                    return False
                self._condition.wait(left)
        return True
