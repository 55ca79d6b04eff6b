"""The process that computes: it takes one task at a time and stays warm with the last scene loaded.

It knows nothing of the database.  Over a pipe it gets ("task", kind, request), and ("wants",
wishes) while it works; it sends ("progress", share, text, live), ("partly", result), and at the end
("done", result), ("paused", None), ("failed", error) or ("cancelled", None).
"""

from __future__ import annotations

import contextlib
import os
import resource
import signal
import time
import traceback
from multiprocessing.connection import Connection
from multiprocessing.synchronize import Event
from typing import Any

import psutil
from pydantic import BaseModel

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Cancelled
from mill_lane.work.kinds.base import Paused

RHYTHM = 0.15  # seconds between two tellings
KEPT = "Everything finished before is kept."


class Reporter:
    """Talks to the worker now and then, and stops the work when asked to; see
    `kinds.base.Report`.
    """

    def __init__(self, pipe: Connection, stop: Event) -> None:
        self.pipe, self.stop, self.last = pipe, stop, 0.0
        self.live: dict[str, Any] = {}
        self.wants: dict[str, Any] = {}

    def hear(self) -> dict[str, Any]:
        """What the artist wants now."""
        while self.pipe.poll():
            message = self.pipe.recv()
            if message[0] == "wants":
                self.wants = message[1]
        return self.wants

    def __call__(self, share: float, text: str) -> None:
        """Tell how far it is; raises Cancelled when it is to stop."""
        if self.stop.is_set():
            raise Cancelled
        if time.monotonic() - self.last > RHYTHM:
            self.send(share, text)

    def partly(self, result: BaseModel) -> None:
        """Hand over what is known so far; it is kept at once, and shown."""
        self.pipe.send(("partly", result))

    def send(self, share: float, text: str) -> None:
        """Tell how far it is, at once."""
        self.last = time.monotonic()
        self.pipe.send(("progress", share, text, self.live))


def limit_memory(size: int) -> None:
    """Let this process have at most `size` bytes of private memory; beyond, allocation fails."""
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_DATA, (size, resource.RLIM_INFINITY))


def main(pipe: Connection, stop: Event) -> None:
    """Serve tasks until the pipe closes."""
    # Ctrl-C is the server's to handle; the pipe's end is ours.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.nice(5)  # the page must answer while this computes
    # Before anything else of this system is given up for lack of memory, let it be this process.
    with contextlib.suppress(OSError), open("/proc/self/oom_score_adj", "w") as f:
        f.write("800")
    while True:
        try:
            # With a request its kind is imported, also one from outside the package.
            message = pipe.recv()
        except (EOFError, OSError):
            return
        if message[0] == "task" and not serve(message[1], message[2], Reporter(pipe, stop)):
            return


def serve(name: str, request: BaseModel, report: Reporter) -> bool:
    """Do a task and tell how it ended; returns whether this process can go on."""
    from mill_lane.work.kinds import KINDS

    kind = KINDS[name]
    limit_memory(kind.memory_limit(request) or int(psutil.virtual_memory().total * 0.95))
    try:
        report.pipe.send(("done", kind.run(request, report)))
    except Cancelled:
        report.pipe.send(("cancelled", None))
    except Paused:
        report.pipe.send(("paused", None))
    except MillError as e:
        report.pipe.send(("failed", e.as_json()))
    except MemoryError:
        hint = "Look at Fit; trim textures, or render a smaller picture."
        error = {"error": "This computer's memory is full.", "hint": hint, "kept": KEPT}
        report.pipe.send(("failed", error))
        return False  # what was half loaded goes with the process
    except Exception as e:
        traceback.print_exc()
        error = {
            "error": f"Something unforeseen went wrong: {type(e).__name__}: {e}",
            "hint": "Run it again. If it happens again, the server's terminal shows where.",
            "kept": KEPT,
        }
        report.pipe.send(("failed", error))
    return True
