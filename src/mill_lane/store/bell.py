"""A bell for whoever waits for work: rung by any process that queues some, heard at once.

It is a named pipe in the home folder, so that nobody has to know who listens; nothing is written to
the disk.  Where a file system has none, listeners find out by themselves, a little later.
"""

from __future__ import annotations

import contextlib
import os
import select
import stat
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

FILE = "bell"


def ring(path: Path) -> None:
    """Wake the listener, if there is one."""
    with contextlib.suppress(OSError):
        handle = os.open(path, os.O_WRONLY | os.O_NONBLOCK)
        try:
            os.write(handle, b"!")
        finally:
            os.close(handle)


class Listener:
    """Hears a bell; there is one listener at a time."""

    def __init__(self, handle: int | None) -> None:
        self.handle = handle

    def wait(self, seconds: float) -> bool:
        """Wait so long at most; whether the bell was rung."""
        if self.handle is None:
            time.sleep(seconds)
            return False
        ready, _, _ = select.select([self.handle], [], [], seconds)
        if ready:
            with contextlib.suppress(BlockingIOError):
                while os.read(self.handle, 4096):
                    pass
        return bool(ready)


@contextmanager
def listening(path: Path) -> Iterator[Listener]:
    """Listen to a bell, which is made where it is not there."""
    handle = None
    try:
        if path.exists() and not stat.S_ISFIFO(path.stat().st_mode):
            path.unlink()
        if not path.exists():
            os.mkfifo(path, 0o600)
        # Also for writing, so that it is never without a writer: that would count as rung.
        handle = os.open(path, os.O_RDWR | os.O_NONBLOCK)
    except OSError:
        handle = None
    try:
        yield Listener(handle)
    finally:
        if handle is not None:
            os.close(handle)
