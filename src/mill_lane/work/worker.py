"""The worker process: it claims tasks, hands them to a child, and writes down what becomes of them."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
import time
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import Any

from mill_lane.store.home import Home, open_home
from mill_lane.store.models import Task
from mill_lane.work import queue
from mill_lane.work.child import main as child_main
from mill_lane.work.outcomes import conclude, keep_partly, payload_for

IDLE = 0.15
GRACE = 4.0  # seconds that a child has to stop by itself


class Orphaned(Exception):
    """Raised when the server is gone:

    nobody is there to tell, and the next one takes up what was begun.
    """


class Child:
    """The computing process and the two ways to talk to it.  It is started anew after it died."""

    def __init__(self) -> None:
        context = multiprocessing.get_context("spawn")
        self.stop = context.Event()
        self.pipe: Connection
        self.pipe, theirs = context.Pipe()
        self.process: BaseProcess = context.Process(
            target=child_main, args=(theirs, self.stop), daemon=True
        )
        self.process.start()
        theirs.close()

    def alive(self) -> bool:
        return self.process.is_alive()

    def kill(self) -> None:
        self.process.kill()
        self.process.join()
        self.pipe.close()


class Worker:
    """Runs tasks one after another, so that their times compare."""

    def __init__(self, home: Home) -> None:
        self.home = home
        self.child: Child | None = None
        self.parent = os.getppid()

    def run(self, parent: int) -> None:
        """Serve until the parent process is gone, also in the middle of a task."""
        self.parent = parent
        with self.home.sessions() as session:
            queue.recover(session, everything=True)
        with contextlib.suppress(Orphaned):
            while os.getppid() == parent:
                if not self.one():
                    time.sleep(IDLE)
        if self.child is not None:
            self.child.kill()

    def one(self) -> bool:
        """Do one task, if there is any."""
        with self.home.sessions() as session:
            task = queue.claim(session)
            if task is None:
                return False
            try:
                payload = payload_for(session, self.home, task)
            except Exception as e:
                self._finish(
                    task.id, "failed", {"error": str(e), "hint": "Open the job again.", "kept": ""}
                )
                return True
            number, kind = task.id, task.kind
        outcome, result = self._do(number, kind, payload)
        self._finish(number, outcome, result)
        return True

    def _do(self, number: int, kind: str, payload: dict[str, Any]) -> tuple[str, dict[str, Any]]:
        if self.child is None or not self.child.alive():
            self.child = Child()
        child = self.child
        child.stop.clear()
        child.pipe.send((kind, payload))
        asked_at = 0.0
        last_beat = 0.0
        gives_way = False
        told: dict[str, Any] = {}
        progress: dict[str, Any] = {}
        while True:
            message: Any = None
            try:
                # All that waits is read; only the newest progress is worth writing down.
                while child.pipe.poll(0.1):
                    message = child.pipe.recv()
                    if message[0] == "partly":
                        self._keep_partly(number, message[1])
                        message = None
                        break
                    if message[0] != "progress":
                        break
                    progress = {"share": message[1], "text": message[2], "live": message[3]}
                    if time.monotonic() - last_beat > 0.25:
                        break
            except (EOFError, OSError):
                message = None
                child.process.join(1)
            if message is not None and message[0] != "progress":
                return (
                    "waits" if gives_way and message[0] == "cancelled" else message[0]
                ), message[1]
            if not child.alive():
                code = child.process.exitcode or 0
                self.child = None
                return "failed", died(code)
            if os.getppid() != self.parent:
                raise Orphaned
            if time.monotonic() - last_beat > 0.25:
                last_beat = time.monotonic()
                with self.home.sessions() as session:
                    cancel, wants = queue.beat(session, number, **progress)
                    # Weighing is nobody's hurry: what an artist asks for goes first.
                    if (
                        kind == "weigh"
                        and not cancel
                        and not asked_at
                        and queue.somebody_waits(session)
                    ):
                        gives_way = cancel = True
                if cancel and not asked_at:
                    asked_at = time.monotonic()
                    child.stop.set()
                if wants != told:
                    told = wants
                    with contextlib.suppress(OSError):
                        child.pipe.send(("wants", wants))
                progress = {}
            if asked_at and time.monotonic() - asked_at > GRACE + 20 * (kind in ("trial", "run")):
                child.kill()
                self.child = None
                return "cancelled", {}

    def _keep_partly(self, number: int, result: dict[str, Any]) -> None:
        with self.home.sessions() as session:
            keep_partly(session, self.home, session.get_one(Task, number), result)
            session.commit()

    def _finish(self, number: int, outcome: str, result: dict[str, Any]) -> None:
        with self.home.sessions() as session:
            task = session.get_one(Task, number)
            try:
                conclude(session, self.home, task, outcome, result)
                session.commit()
            except Exception as e:
                session.rollback()
                task = session.get_one(Task, number)
                error = {
                    "error": f"The result could not be kept: {e}",
                    "hint": "Check the disk; run it again.",
                    "kept": "",
                }
                queue.end(session, task, "failed", text="failed", error=error)
                session.commit()


def died(code: int) -> dict[str, str]:
    """What to tell about a child that is gone."""
    name = signal.Signals(-code).name if code < 0 else f"status {code}"
    why = " The system probably ran out of memory." if -code == signal.SIGKILL else ""
    return {
        "error": f"The render process was ended from outside ({name}).{why}",
        "hint": "Run it again with one click: it goes on from its last checkpoint.",
        "kept": "Everything finished before is kept.",
    }


def serve(folder: str, parent: int) -> None:
    """Entry of the worker process."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    worker = Worker(open_home(Path(folder)))
    with contextlib.suppress(KeyboardInterrupt):
        worker.run(parent)


def start(folder: Path) -> BaseProcess:
    """Start the worker beside the server."""
    context = multiprocessing.get_context("spawn")
    # Not a daemon: it has a child of its own.  It ends by itself when its parent is gone.
    process = context.Process(target=serve, args=(str(folder), os.getpid()), daemon=False)
    process.start()
    return process
