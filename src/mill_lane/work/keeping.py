"""Keeping what tasks made, however long it takes until that is possible."""

from __future__ import annotations

import contextlib
import functools
import traceback
from collections.abc import Callable
from typing import Any, TypeVar

from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from mill_lane.store.files import Taken, claimed
from mill_lane.store.home import Home
from mill_lane.store.models import Task
from mill_lane.store.transactions import no_room, passing, write
from mill_lane.work import failures
from mill_lane.work.ending import AnyKind, conclude, sweep
from mill_lane.work.kinds.base import Context

FIRST_REST, LONGEST_REST = 0.5, 10.0  # seconds between attempts at what cannot be done just now
T = TypeVar("T")


class _GivenUp(Exception):
    """Raised where a result waits to be kept, and somebody asked to cancel its task."""


def in_task(home: Home, number: int, work: Callable[[Context], T]) -> T:
    """Do something with a task in a transaction of its own."""

    def inner(session: Session) -> T:
        return work(Context(session, home, session.get_one(Task, number)))

    return write(home.sessions, inner)


def hindrance(error: Exception) -> str:
    """What keeps the work from going on, in words."""
    if no_room(error):
        return "The disk is full."
    if isinstance(error, OperationalError):
        return f"The database cannot be written: {error.orig}."
    return f"{type(error).__name__}: {error}"[:200]


class Keeper:
    """Ends tasks in the database.

    Parameters
    ----------
    home : Home
    tell : callable
        Told what is being done, and what hinders it.
    rest : callable
        Waits so many seconds; may raise where nobody needs the result any more.
    """

    def __init__(
        self, home: Home, tell: Callable[..., None], rest: Callable[[float], None]
    ) -> None:
        self.home, self.tell, self.rest = home, tell, rest

    def finish(self, number: int, kind: AnyKind, outcome: str, result: Any) -> None:
        """Keep what came out, however long it takes until that is possible.

        What was made is got ready for the store once: listing it moves it, so that a second
        attempt would find nothing where it was made.
        """
        taken: dict[str, Taken] = {}
        with contextlib.ExitStack() as claims:
            if outcome == "done":
                try:
                    taken = self._patiently(number, lambda: kind.store(self.home, result))
                    claims.enter_context(claimed(taken.values()))
                except _GivenUp:
                    outcome, result = "cancelled", None
                except Exception as e:
                    traceback.print_exc()
                    outcome, result = "failed", failures.not_kept(e)
            task = self._concluded(number, kind, outcome, result, taken)
        with contextlib.suppress(OSError):
            sweep(self.home, kind, task)

    def _concluded(
        self, number: int, kind: AnyKind, outcome: str, result: Any, taken: dict[str, Taken]
    ) -> Task:
        """Write down how a task ended; what cannot be written for good has failed."""
        while True:

            def work(context: Context, ended: tuple[Any, ...] = (outcome, result, taken)) -> Task:
                conclude(context, kind, *ended)
                return context.task

            try:
                return self._patiently(number, functools.partial(in_task, self.home, number, work))
            except _GivenUp:
                outcome, result = "cancelled", None
            except Exception as e:
                if outcome == "failed":
                    raise
                traceback.print_exc()
                outcome, result = "failed", failures.not_kept(e)

    def _patiently(self, number: int, work: Callable[[], T]) -> T:
        """Do something at the end of a task, again and again while what hinders it may pass.

        Raises
        ------
        _GivenUp
            Where somebody would rather lose the result than wait.
        """
        rest = FIRST_REST
        while True:
            self.tell("keeps")
            try:
                return work()
            except Exception as e:
                if not passing(e):
                    raise
                self.tell("keeps", f"The result of task {number} waits: {hindrance(e)}")
                self.rest(rest)
                rest = min(2 * rest, LONGEST_REST)
                if self._given_up(number):
                    raise _GivenUp from e

    def _given_up(self, number: int) -> bool:
        """Whether somebody asked to cancel a task whose result waits."""
        with contextlib.suppress(OperationalError), self.home.sessions() as session:
            return session.get_one(Task, number).cancel
        return False
