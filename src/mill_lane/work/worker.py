"""The worker process: it claims tasks, hands them to a child, and writes down what becomes
of them.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.store.home import Home, open_home
from mill_lane.store.models import Task
from mill_lane.store.transactions import write
from mill_lane.work import queue
from mill_lane.work.child import main as child_main
from mill_lane.work.ending import AnyKind, conclude, sweep
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.base import Context

IDLE = 0.15
BEAT = 0.25  # seconds between two signs of life
T = TypeVar("T")


class Orphaned(Exception):
    """Raised when the server is gone: the next one takes up what was begun."""


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
        """Whether it runs."""
        return self.process.is_alive()

    def kill(self) -> None:
        """End it at once."""
        self.process.kill()
        self.process.join()
        self.pipe.close()


@dataclass
class _Doing:
    """A task while the child does it."""

    number: int
    kind: AnyKind
    progress: dict[str, Any] = field(default_factory=dict)
    told: dict[str, Any] = field(default_factory=dict)
    last_beat: float = 0.0
    asked_at: float = 0.0  # when it was asked to stop
    gave_way: bool = False


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
            task = queue.claim(session, KINDS)
            if task is None:
                return False
            number, name = task.id, task.kind
            if name not in KINDS:
                error = {
                    "error": f"This edition of Mill Lane does not know what “{name}” is.",
                    "hint": "Start the edition that began it.",
                    "kept": "Everything finished before is kept.",
                }
                queue.end(session, task, "failed", text="failed", error=error)
                session.commit()
                return True
            kind = KINDS[name]
            try:
                payload = kind.payload_type.model_validate(task.payload)
                request = kind.prepare(Context(session, self.home, task), payload)
            except MillError as e:
                outcome, result = "failed", e.as_json()
            except Exception as e:
                error = {"error": str(e), "hint": "Open the job again.", "kept": ""}
                outcome, result = "failed", error
            else:
                session.commit()
                outcome, result = "", {}
        if not outcome:
            outcome, result = self._do(number, kind, request)
        self._finish(number, kind, outcome, result)
        return True

    def _do(self, number: int, kind: AnyKind, request: BaseModel) -> tuple[str, Any]:
        if self.child is None or not self.child.alive():
            self.child = Child()
        self.child.stop.clear()
        self.child.pipe.send(("task", kind.name, request))
        doing = _Doing(number, kind)
        while True:
            message = self._heard(doing)
            if message is not None:
                outcome, result = message
                return ("waits" if doing.gave_way and outcome == "cancelled" else outcome), result
            if not self.child.alive():
                code = self.child.process.exitcode or 0
                self.child = None
                return "failed", died(code)
            if os.getppid() != self.parent:
                raise Orphaned
            if time.monotonic() - doing.last_beat > BEAT:
                self._beat(doing)
            if doing.asked_at and time.monotonic() - doing.asked_at > kind.grace:
                self.child.kill()
                self.child = None
                return "cancelled", None

    def _heard(self, doing: _Doing) -> tuple[str, Any] | None:
        """What the child says at the end, or None; parts are kept, progress is remembered."""
        assert self.child is not None
        try:
            # All that waits is read; only the newest progress is worth writing down.
            while self.child.pipe.poll(0.1):
                message = self.child.pipe.recv()
                if message[0] == "partly":
                    self._keep_part(doing, message[1])
                    return None
                if message[0] != "progress":
                    return message[0], message[1]
                doing.progress = {"share": message[1], "text": message[2], "live": message[3]}
                if time.monotonic() - doing.last_beat > BEAT:
                    return None
        except (EOFError, OSError):
            self.child.process.join(1)
        return None

    def _beat(self, doing: _Doing) -> None:
        """Give a sign of life, and pass on what is wanted."""
        assert self.child is not None
        doing.last_beat = time.monotonic()
        with self.home.sessions() as session:
            cancel, wants = queue.beat(session, doing.number, **doing.progress)
            patient = doing.kind.gives_way and not cancel and not doing.asked_at
            if patient and queue.somebody_waits(session, KINDS):
                doing.gave_way = cancel = True
        doing.progress = {}
        if cancel and not doing.asked_at:
            doing.asked_at = time.monotonic()
            self.child.stop.set()
        if wants != doing.told:
            doing.told = wants
            with contextlib.suppress(OSError):
                self.child.pipe.send(("wants", wants))

    def _in_task(self, number: int, work: Callable[[Context], T]) -> T:
        """Do something with a task in a transaction of its own."""

        def inner(session: Session) -> T:
            return work(Context(session, self.home, session.get_one(Task, number)))

        return write(self.home.sessions, inner)

    def _keep_part(self, doing: _Doing, result: BaseModel) -> None:
        def work(context: Context) -> None:
            if context.task.state == "running":
                payload = doing.kind.payload_type.model_validate(context.task.payload)
                doing.kind.keep_part(context, payload, result)

        self._in_task(doing.number, work)

    def _finish(self, number: int, kind: AnyKind, outcome: str, result: Any) -> None:
        def work(context: Context) -> Task:
            conclude(context, kind, outcome, result, taken)
            return context.task

        try:
            taken = kind.store(self.home, result) if outcome == "done" else {}
            task = self._in_task(number, work)
        except Exception as e:
            error = {
                "error": f"The result could not be kept: {e}",
                "hint": "Check the disk; run it again.",
                "kept": "",
            }
            outcome, result, taken = "failed", error, {}
            task = self._in_task(number, work)
        sweep(self.home, kind, task)


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
