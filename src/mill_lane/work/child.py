"""The process that computes: it takes one task at a time and stays warm with the last scene loaded.

It knows nothing of the database.  Over a pipe it gets ("task", kind, request, folder), and while it
works ("wants", wishes) and ("stop",); it sends ("progress", share, text, live), ("partly", result),
and at the end ("done", result), ("paused", None), ("failed", error), ("cancelled", None), or
("exhausted", error), after which it ends.
"""

from __future__ import annotations

import contextlib
import os
import signal
import tempfile
import threading
import time
import traceback
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Cancelled, left_of
from mill_lane.store.transactions import no_room
from mill_lane.work import failures
from mill_lane.work.kinds.base import Paused
from mill_lane.work.limits import limit_memory
from mill_lane.work.memory import most_memory, return_large_blocks

RHYTHM = 0.15  # seconds between two tellings
WAITS = 2.0  # seconds between two attempts to write to a full disk
NICE = 10  # what computes takes a tenth of a processor that a page wants


class Reporter:
    """Talks to the worker now and then, and stops the work when asked to; see
    `kinds.base.Report`.
    """

    def __init__(self, pipe: Connection) -> None:
        self.pipe, self.last = pipe, 0.0
        self.began = time.monotonic()
        self.stop = False
        self._alone = threading.Lock()  # work may tell from several threads
        self.live: dict[str, Any] = {}
        self.wants: dict[str, Any] = {}

    def hear(self) -> dict[str, Any]:
        """What the artist wants now."""
        with self._alone:
            while self.pipe.poll():
                message = self.pipe.recv()
                if message[0] == "wants":
                    self.wants = message[1]
                elif message[0] == "stop":
                    self.stop = True
            return self.wants

    def __call__(self, share: float, text: str) -> None:
        """Tell how far it is; raises Cancelled when it is to stop."""
        self.hear()
        if self.stop:
            raise Cancelled
        if time.monotonic() - self.last > RHYTHM:
            self.send(share, text)

    def partly(self, result: BaseModel) -> None:
        """Hand over what is known so far; it is kept at once, and shown."""
        with self._alone:
            self.pipe.send(("partly", result))

    def send(self, share: float, text: str) -> None:
        """Tell how far it is, at once."""
        with self._alone:
            self.last = time.monotonic()
            self.pipe.send(("progress", share, text, self.left(share) | self.live))

    def left(self, share: float) -> dict[str, float]:
        """Seconds left, going by the pace so far; nothing while there is little to go by."""
        left = left_of(share, time.monotonic() - self.began)
        return {} if left is None else {"left": left}

    def wait_for_room(self, share: float, why: str = "the disk is full") -> None:
        """Wait a moment for what cannot be written; raises Cancelled when it is to stop."""
        end = time.monotonic() + WAITS
        while time.monotonic() < end:
            self(share, f"{why}: waits until it can be written")
            time.sleep(0.2)


def main(pipe: Connection) -> None:
    """Serve tasks until the pipe closes."""
    # Ctrl-C is the server's to handle; the pipe's end is ours.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.nice(NICE)
    return_large_blocks()
    # Before anything else of this system is given up for lack of memory, let it be this process.
    with contextlib.suppress(OSError), open("/proc/self/oom_score_adj", "w") as f:
        f.write("800")
    while True:
        try:
            # With a request its kind is imported, also one from outside the package.
            message = pipe.recv()
        except (EOFError, OSError):
            return
        # Wishes that came too late for the last task are passed over.
        if message[0] == "task" and not serve(message[1], message[2], message[3], Reporter(pipe)):
            return


def serve(name: str, request: BaseModel, folder: Path, report: Reporter) -> bool:
    """Do a task and tell how it ended; returns whether this process can go on.

    Whatever libraries put into temporary files goes into `folder`, the task's own.
    """
    from mill_lane.work.kinds import KINDS

    kind = KINDS[name]
    # What the artist's settings leave, or less where other programs have taken more since.
    most = most_memory()
    limit_memory(min(kind.memory_limit(request) or most, most))
    try:
        folder.mkdir(parents=True, exist_ok=True)
        tempfile.tempdir = os.environ["TMPDIR"] = str(folder)
        report.pipe.send(("done", kind.run(request, report)))
    except Cancelled:
        report.pipe.send(("cancelled", None))
    except Paused:
        report.pipe.send(("paused", None))
    except MillError as e:
        report.pipe.send(("failed", e.as_json()))
    except MemoryError:
        report.pipe.send(("exhausted", failures.memory_full()))
        return False  # what was half loaded goes with the process
    except Exception as e:
        traceback.print_exc()
        error = failures.disk_full(folder) if no_room(e) else failures.unforeseen(e)
        report.pipe.send(("failed", error))
    return True
