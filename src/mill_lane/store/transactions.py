"""Short transactions that have the write lock from their first statement on."""

from __future__ import annotations

import errno
import time
from collections.abc import Callable
from typing import TypeVar

from sqlalchemy import text
from sqlalchemy.exc import IntegrityError, OperationalError
from sqlalchemy.orm import Session

from mill_lane.store.database import Sessions

T = TypeVar("T")
ATTEMPTS = 5
PAUSE = 0.05  # seconds before the second attempt; each further one waits twice as long
NO_ROOM = (errno.ENOSPC, errno.EDQUOT)
PASSING = (*NO_ROOM, errno.EIO, errno.EROFS, errno.EAGAIN)


def begin(session: Session) -> None:
    """Take the write lock now: what is read from here on is what is changed.

    Two writers that each read, think and write come one after the other; no update is lost, and no
    number is given twice.
    """
    session.execute(text("BEGIN IMMEDIATE"))


def look(session: Session) -> None:
    """Read everything as it is at the first query: what is written meanwhile is not seen.

    Else each query would see the newest, and a page could show what was before beside the stamp of
    what came after, by which it takes itself for new.
    """
    session.execute(text("BEGIN DEFERRED"))


def write(sessions: Sessions, work: Callable[[Session], T]) -> T:
    """Do `work` in a transaction of its own and commit it.

    Parameters
    ----------
    sessions : sessionmaker
    work : callable
        Gets a new session at each attempt, so that nothing of a failed one is left.

    Returns
    -------
    T
        What `work` returned.

    Raises
    ------
    OperationalError, IntegrityError
        When it did not succeed in several attempts: the database stayed locked, or what is written
        breaks a rule of the tables.
    """
    for attempt in range(ATTEMPTS):
        try:
            with sessions() as session:
                begin(session)
                result = work(session)
                session.commit()
                return result
        except (OperationalError, IntegrityError) as e:
            if attempt == ATTEMPTS - 1 or no_room(e):
                raise
            time.sleep(PAUSE * 2**attempt)
    raise AssertionError("unreachable")


def no_room(error: BaseException) -> bool:
    """Whether something failed because the disk is full."""
    if isinstance(error, OperationalError):
        return "disk is full" in str(error)
    return isinstance(error, OSError) and error.errno in NO_ROOM


def passing(error: BaseException) -> bool:
    """Whether something failed for a reason that may pass: a full disk, a locked database."""
    if isinstance(error, OperationalError):
        return True
    return isinstance(error, OSError) and error.errno in PASSING
