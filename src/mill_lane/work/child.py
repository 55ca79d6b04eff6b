"""The process that computes: it takes one task at a time and stays warm with the last scene loaded.

It knows nothing of the database.  Over a pipe it gets (kind, payload), and ("wants", wishes) while
it works; it sends ("progress", share, text, live), ("done", result), ("paused", result), ("failed",
error) or ("cancelled", result).
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

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Cancelled


class Paused(Exception):
    """Raised when a render was put aside: its state is in its checkpoint."""


class Reporter:
    """A progress callback that talks to the worker now and then, and stops the work when asked to."""

    def __init__(self, pipe: Connection, stop: Event) -> None:
        self.pipe, self.stop, self.last = pipe, stop, 0.0
        self.live: dict[str, Any] = {}
        self.wants: dict[str, Any] = {}

    def hear(self) -> dict[str, Any]:
        """What the artist wants now."""
        while self.pipe.poll():
            kind, wishes = self.pipe.recv()
            if kind == "wants":
                self.wants = wishes
        return self.wants

    def __call__(self, share: float, text: str) -> None:
        if self.stop.is_set():
            raise Cancelled
        if time.monotonic() - self.last > 0.15:
            self.send(share, text)

    def partly(self, result: dict[str, Any]) -> None:
        """Hand over what is known so far; it is kept at once, and shown."""
        self.pipe.send(("partly", result))

    def send(self, share: float, text: str) -> None:
        self.last = time.monotonic()
        self.pipe.send(("progress", share, text, self.live))


def limit_memory(size: int) -> None:
    """Let this process have at most `size` bytes of private memory; beyond, allocation fails and
    says so.
    """
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_DATA, (size, resource.RLIM_INFINITY))


def main(pipe: Connection, stop: Event) -> None:
    """Serve tasks until the pipe closes."""
    signal.signal(
        signal.SIGINT, signal.SIG_IGN
    )  # Ctrl-C is the server's to handle; the pipe's end is ours
    os.nice(5)  # the page must answer while this computes
    # Before anything else of this system is given up for lack of memory, let it be this process.
    with contextlib.suppress(OSError), open("/proc/self/oom_score_adj", "w") as f:
        f.write("800")
    from mill_lane.work.handlers import (
        HANDLERS,  # the compiler is loaded here, not in the server
    )

    while True:
        try:
            kind, payload = pipe.recv()
        except (EOFError, OSError):
            return
        if kind == "wants":
            continue  # for a task that has just ended
        report = Reporter(pipe, stop)
        limit_memory(int(payload.get("memory_limit") or psutil.virtual_memory().total * 0.95))
        try:
            pipe.send(("done", HANDLERS[kind](payload, report)))
        except Cancelled:
            pipe.send(("cancelled", {}))
        except Paused:
            pipe.send(("paused", {}))
        except MillError as e:
            pipe.send(("failed", e.as_json()))
        except MemoryError:
            pipe.send(
                (
                    "failed",
                    {
                        "error": "This computer's memory is full.",
                        "hint": "Visibility at Fit; trim textures, or render a smaller picture.",
                        "kept": "Everything finished before is kept.",
                    },
                )
            )
            return  # what was half loaded goes with the process
        except Exception as e:
            traceback.print_exc()
            pipe.send(
                (
                    "failed",
                    {
                        "error": f"Something unforeseen went wrong: {type(e).__name__}: {e}",
                        "hint": "Run it again. If it happens again, the server's terminal shows where.",
                        "kept": "Everything finished before is kept.",
                    },
                )
            )
