"""Watching over the worker: it is started anew when it ends, or when it no longer moves."""

from __future__ import annotations

import multiprocessing
import threading
import time
from dataclasses import dataclass
from multiprocessing.connection import Connection, wait
from pathlib import Path

from mill_lane.work import forks
from mill_lane.work.forks import Process
from mill_lane.work.signs import Sign
from mill_lane.work.worker import serve

TICK = 2.0  # seconds after which it looks although nothing was heard
FIRST_PAUSE, LONGEST_PAUSE = 0.25, 30.0  # seconds before the next start
STEADY = 60.0  # seconds after which a worker's past is forgotten
SILENT = 15.0  # seconds without a sign until it counts as stuck
ENDED_AFTER = 90.0  # seconds without a sign until it is ended
KEEPING = 20.0  # times as long while it takes a result into the store, which may be large


@dataclass(frozen=True)
class Watch:
    """How the worker is.

    Attributes
    ----------
    alive : bool
    pid : int or None
    starts : int
        How often it was started.
    silent : float
        Seconds since its last sign.
    stuck : bool
        Whether it should have given one.
    sign : Sign
        The last one.
    doing_seconds : float
        Since when it does what it does.
    """

    alive: bool
    pid: int | None
    starts: int
    silent: float
    stuck: bool
    sign: Sign
    doing_seconds: float = 0.0

    @property
    def working(self) -> bool:
        """Whether tasks are being done, or would be if there were any."""
        return self.alive and not self.stuck and not self.sign.trouble


class Supervisor:
    """A thread of the server that keeps a worker running beside it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.process: Process | None = None
        self.starts = 0
        self._sign, self._heard = Sign(), time.monotonic()
        self._since = self._heard  # when it began what it does
        self._ended = threading.Event()
        self._wake, self._waker = multiprocessing.Pipe(duplex=False)  # closed when it is to end
        self._thread = threading.Thread(target=self._run, name="supervisor", daemon=True)

    def start(self) -> None:
        """Start the worker, and watch over it."""
        self._thread.start()

    def stop(self) -> None:
        """End the worker, and do not start it again."""
        self._ended.set()
        self._waker.close()
        if self._thread.is_alive():
            self._thread.join(10)

    def watch(self) -> Watch:
        """How the worker is now."""
        silent = time.monotonic() - self._heard
        process = self.process
        alive = process is not None and process.alive()
        pid = process.pid if process is not None else None
        stuck = silent > self._patience(SILENT)
        doing = time.monotonic() - self._since
        return Watch(alive, pid, self.starts, silent, stuck, self._sign, doing)

    def _patience(self, seconds: float) -> float:
        return seconds * KEEPING if self._sign.doing == "keeps" else seconds

    def _run(self) -> None:
        pause = FIRST_PAUSE
        while not self._ended.is_set():
            begun = time.monotonic()
            self._one(pause)
            pause = FIRST_PAUSE if time.monotonic() - begun > STEADY else pause * 2
            pause = min(pause, LONGEST_PAUSE)
            self._ended.wait(pause)

    def _one(self, pause: float) -> None:
        """Start a worker and watch it until it ends, or has to be ended."""
        ours, theirs = multiprocessing.Pipe(duplex=False)
        self._sign, self._heard = Sign(), time.monotonic()
        with theirs:
            process = forks.start(serve, str(self.folder), pipes=[theirs])
        self.process = process
        self.starts += 1
        try:
            self._listen(process, ours)
        finally:
            process.terminate()
            process.join(3)
            if process.alive():
                process.kill()
                process.join()
            ours.close()

    def _listen(self, process: Process, pipe: Connection) -> None:
        last = time.monotonic()
        while not self._ended.is_set() and process.alive():
            ready = wait([pipe, process.sentinel, self._wake], TICK)
            now = time.monotonic()
            if now - last > TICK + SILENT / 2:  # we slept as well: the computer was suspended
                self._heard = now
            last = now
            try:
                while pipe in ready and pipe.poll():
                    sign = pipe.recv()
                    if sign.doing != self._sign.doing:
                        self._since = now
                    self._sign, self._heard = sign, now
            except (EOFError, OSError):
                process.join(1)
                return
            if now - self._heard > self._patience(ENDED_AFTER):
                process.kill()
                process.join()
                return
