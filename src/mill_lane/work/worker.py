"""The worker process: it claims tasks, hands them to a child, and writes down what becomes
of them.

Whatever fails on the way is tried again: a worker that gives up would leave all that waits waiting.
"""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
import time
import traceback
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.store.files import claimed
from mill_lane.store.home import Home, hold, open_home
from mill_lane.store.models import Task
from mill_lane.store.transactions import passing, write
from mill_lane.work import failures, leftovers, queue
from mill_lane.work.computer import Child
from mill_lane.work.ending import TEMPORARY, AnyKind, without
from mill_lane.work.keeping import FIRST_REST, LONGEST_REST, Keeper, hindrance, in_task
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.base import Context
from mill_lane.work.signs import Doing, Signs
from mill_lane.work.wake import Waker

IDLE = 2.0  # seconds after which a lane that waits gives a sign of life
ANYWAY = 30.0  # seconds after which it looks for work although nobody woke it
FURTHER = 0.01  # share of the work: what got so much further than before may be interrupted anew
BEAT = 0.25  # seconds between two signs of life
TIDY_SECONDS = 20.0  # between two looks for what nobody needs, while there is nothing to do
CHILDREN = 3  # that are tried before a task has failed that none of them took
T = TypeVar("T")


class Orphaned(Exception):
    """Raised when the server is gone: the next one takes up what was begun."""


@dataclass
class _Doing:
    """A task while the child does it."""

    number: int
    kind: AnyKind
    share: float = 0.0  # how far it had come when it was taken up
    progress: dict[str, Any] = field(default_factory=dict)
    told: dict[str, Any] = field(default_factory=dict)
    live: dict[str, Any] = field(default_factory=dict)  # what the child told last
    last_beat: float = 0.0
    asked_at: float = 0.0  # when it was asked to stop
    gave_way: bool = False
    # Claims on files of parts that could not be listed yet.
    claims: contextlib.ExitStack = field(default_factory=contextlib.ExitStack)


class Worker:
    """Runs the tasks of a lane one after another, so that their times compare.

    Without a lane it runs those of all.
    """

    def __init__(
        self,
        home: Home,
        signs: Signs | None = None,
        lane: str | None = None,
        waker: Waker | None = None,
    ) -> None:
        self.home = home
        self.lane = lane
        self.waker = waker or Waker(home, os.getppid())
        self.keeper = Keeper(home, self._tell, self._rest)
        self.signs = signs or Signs()
        self.child: Child | None = None
        self.apart: Child | None = None  # that does what is to leave the other's scene alone
        self.in_apart = False  # which of both that is
        self.in_hand = False  # whether the child was given a task that has not ended
        self.parent = os.getppid()
        self.tidied = 0.0

    def run(self, parent: int) -> None:
        """Serve until the parent process is gone, also in the middle of a task."""
        self.parent = parent
        # The worker of a server that was killed may still be writing its last result.
        with self._to_the_end(), hold(self.home.folder / "worker.lock", self._rest):
            self._insist("begins", self._take_up)
            self.waker = Waker(self.home, parent)
            self.waker.start()
            beside = [Beside(self.home, parent, lane, self.waker) for lane in queue.LANES[1:]]
            while True:
                self._tell("idle")
                for lane in beside:
                    lane.watch()
                if not self._next():
                    self.tidy()

    @contextlib.contextmanager
    def _to_the_end(self) -> Iterator[None]:
        """Until the server is gone; the child goes with the worker."""
        try:
            yield
        except Orphaned:
            pass
        finally:
            for child in (self.child, self.apart):
                if child is not None:
                    child.kill()

    def serve_lane(self, parent: int) -> None:
        """Serve one lane beside the others, until the parent process is gone."""
        self.parent = parent
        with self._to_the_end():
            while True:
                self._next()

    def _next(self) -> bool:
        """Do one task; where there is none, wait until there may be one; whether there was."""
        count, looked = self.waker.count, time.monotonic()
        if self._insist("looks for work", self.one):
            return True
        woken = False
        while not woken and time.monotonic() - looked < ANYWAY:
            woken = self.waker.wait(count, IDLE)
            if os.getppid() != self.parent:
                raise Orphaned
            self.signs.beat()
        return False

    def _take_up(self) -> None:
        """Put back what was running when the last worker ended, and remove what nobody needs."""
        write(self.home.sessions, lambda db: queue.recover(db, everything=True, ended=self._ended))
        leftovers.sweep(self.home)

    def tidy(self) -> None:
        """Now and then, remove what tasks left that ended without having begun."""
        if time.monotonic() - self.tidied < TIDY_SECONDS:
            return
        self.tidied = time.monotonic()
        self._drop(apart=True)  # nobody has needed it for a while: its memory is given back
        # What cannot be done now is done the next time.
        with contextlib.suppress(OSError, OperationalError):
            if any(self.home.scratch.iterdir()):
                leftovers.sweep_scratch(self.home)

    def _insist(self, what: Doing, work: Callable[[], T]) -> T:
        """Do something until it can be done; what hinders it is told meanwhile."""
        rest = FIRST_REST
        while True:
            try:
                return work()
            except Orphaned:
                raise
            except Exception as e:
                if os.getppid() != self.parent:
                    raise Orphaned from e  # the server went, and the fork server with it
                if not passing(e):
                    traceback.print_exc()
                self._tell(what, hindrance(e))
                self._put_back(blameless=passing(e))
                self._rest(rest)
                rest = min(2 * rest, LONGEST_REST)

    def _put_back(self, blameless: bool) -> None:
        """Have what was in hand begun again; after three attempts it has failed."""
        if self.in_hand:
            self._drop(self.in_apart)
        self.in_hand = False
        with contextlib.suppress(Exception):
            own = None if self.lane is None else {k.name for k in KINDS if k.lane == self.lane}
            write(
                self.home.sessions, lambda db: queue.recover(db, True, blameless, own, self._ended)
            )

    def _ended(self, db: Session, task: Task) -> None:
        """Let what hangs on a task go on that will not be begun again."""
        if task.kind in KINDS:
            without(Context(db, self.home, task), KINDS[task.kind])

    def _rest(self, seconds: float) -> None:
        """Wait, with an eye on the server; raises Orphaned when it is gone."""
        end = time.monotonic() + seconds
        while True:
            if os.getppid() != self.parent:
                raise Orphaned
            left = end - time.monotonic()
            if left <= 0:
                return
            time.sleep(min(left, BEAT))
            self.signs.beat()

    def _tell(self, doing: Doing, trouble: str = "") -> None:
        living = (c.process.pid for c in (self.child, self.apart) if c is not None and c.alive())
        self.signs.tell(doing, trouble, next(living, None))

    def _drop(self, apart: bool) -> None:
        """End one of the children; the next task gets a new one."""
        child = self.apart if apart else self.child
        if child is not None:
            child.kill()
        if apart:
            self.apart = None
        else:
            self.child = None

    def one(self) -> bool:
        """Do one task, if there is any."""
        with self.home.sessions() as session:
            task = queue.claim(session, KINDS, self.lane)
            if task is None:
                return False
            number, name, share = task.id, task.kind, task.share
        if name not in KINDS:
            in_task(self.home, number, lambda c: _fail(c, failures.unknown_kind(name)))
            return True
        kind = KINDS[name]
        request, error = self._prepared(number, kind)
        if request is None:
            self.keeper.finish(number, kind, "failed", error)
        else:
            doing = _Doing(number, kind, share)
            with doing.claims:
                self.in_hand = True
                outcome, result = self._do(doing, request)
                self.in_hand = False
                self.keeper.finish(number, kind, outcome, result)
        return True

    def _prepared(self, number: int, kind: AnyKind) -> tuple[BaseModel | None, Any]:
        """What the child needs for a task, or why it cannot be done."""
        with self.home.sessions() as session:
            task = session.get_one(Task, number)
            try:
                payload = kind.payload_type.model_validate(task.payload)
                return kind.prepare(Context(session, self.home, task), payload), {}
            except MillError as e:
                return None, e.as_json()
            except Exception as e:
                if passing(e):
                    raise
                return None, {"error": str(e)[:500], "hint": "Open the job again.", "kept": ""}

    def _do(self, doing: _Doing, request: BaseModel) -> tuple[str, Any]:
        kind = doing.kind
        child = self._given(doing.number, kind, request)
        if child is None:
            return "died", failures.died(0)
        while True:
            message = self._heard(child, doing)
            if message is not None:
                outcome, result = message
                if outcome == "exhausted":
                    self._drop(kind.apart)
                    return "failed", result
                return ("waits" if doing.gave_way and outcome == "cancelled" else outcome), result
            if not child.alive():
                code = child.exit_code
                self._drop(kind.apart)
                return "died", failures.died(code)
            if os.getppid() != self.parent:
                raise Orphaned
            if time.monotonic() - doing.last_beat > BEAT:
                self._beat(child, doing)
            grace = kind.patience(doing.live)
            if doing.gave_way:
                grace = min(grace, kind.way)
            if doing.asked_at and time.monotonic() - doing.asked_at > grace:
                self._drop(kind.apart)
                return "waits" if doing.gave_way else "cancelled", None

    def _given(self, number: int, kind: AnyKind, request: BaseModel) -> Child | None:
        """The child that took a task; one that just died is replaced."""
        folder = self.home.scratch / f"task-{number}" / TEMPORARY
        self.in_apart = kind.apart
        for _ in range(CHILDREN):
            child = self.apart if kind.apart else self.child
            if child is None or not child.alive():
                child = Child()
                if kind.apart:
                    self.apart = child
                else:
                    self.child = child
            if child.give(kind.name, request, folder):
                return child
            self._drop(kind.apart)
        return None

    def _heard(self, child: Child, doing: _Doing) -> tuple[str, Any] | None:
        """What the child says at the end, or None; parts are kept, progress is remembered."""
        try:
            # All that waits is read; only the newest progress is worth writing down.
            while child.pipe.poll(0.1):
                message = child.pipe.recv()
                if message[0] == "partly":
                    self._keep_part(doing, message[1])
                    return None
                if message[0] != "progress":
                    return message[0], message[1]
                doing.live = message[3]
                doing.progress = {"share": message[1], "text": message[2], "live": message[3]}
                if time.monotonic() - doing.last_beat > BEAT:
                    return None
        except (EOFError, OSError):
            child.process.join(1)
        return None

    def _beat(self, child: Child, doing: _Doing) -> None:
        """Give a sign of life, and pass on what is wanted.

        A database that is busy, or a disk that is full, is no reason to stop: the next beat tells
        the same.
        """
        doing.last_beat = time.monotonic()
        trouble = ""
        if doing.progress.get("share", 0.0) > doing.share + FURTHER:
            doing.progress["attempts"] = 1
        try:
            with self.home.sessions() as session:
                cancel, wants = queue.beat(session, doing.number, **doing.progress)
                patient = doing.kind.gives_way and not cancel and not doing.asked_at
                if patient and queue.must_give_way(session, KINDS, doing.number, doing.kind.lane):
                    doing.gave_way = cancel = True
        except OperationalError as e:
            cancel, wants, trouble = False, doing.told, hindrance(e)
        self._tell("works", trouble)
        doing.progress = {}
        if cancel and not doing.asked_at:
            doing.asked_at = time.monotonic()
            child.stop()
        if wants != doing.told:
            doing.told = wants
            child.ask(wants)

    def _keep_part(self, doing: _Doing, result: BaseModel) -> None:
        """Take over a part; one that cannot be written just now comes again with the whole.

        Its files are claimed until then.
        """

        def work(context: Context) -> None:
            if context.task.state == "running":
                payload = doing.kind.payload_type.model_validate(context.task.payload)
                doing.kind.keep_part(context, payload, result)

        with contextlib.ExitStack() as claims:
            claims.enter_context(claimed(doing.kind.files_of_part(result)))
            try:
                in_task(self.home, doing.number, work)
            except Exception as e:
                if not passing(e):
                    raise
                doing.claims.push(claims.pop_all())
                self._tell("works", hindrance(e))


class Beside:
    """A lane that runs beside the first, on a thread of its own that is started anew if it ends."""

    def __init__(self, home: Home, parent: int, lane: str, waker: Waker) -> None:
        self.home, self.parent, self.lane, self.waker = home, parent, lane, waker
        self.thread: threading.Thread | None = None

    def watch(self) -> None:
        """Start the thread if it does not run."""
        if self.thread is None or not self.thread.is_alive():
            worker = Worker(self.home, lane=self.lane, waker=self.waker)
            self.thread = threading.Thread(
                target=worker.serve_lane, args=(self.parent,), name=self.lane, daemon=True
            )
            self.thread.start()


def _fail(context: Context, error: dict[str, Any]) -> None:
    queue.end(context.db, context.task, "failed", text="failed", error=error)


def serve(pipe: Connection, folder: str) -> None:
    """Entry of the worker process."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    # Stopped from outside, its child goes with it.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    with contextlib.suppress(KeyboardInterrupt):
        home = open_home(Path(folder), migrated=True)
        Worker(home, Signs(pipe), queue.LANES[0]).run(os.getppid())
