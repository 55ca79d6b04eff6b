"""Short transactions that are tried again when another writer was quicker."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

from sqlalchemy.exc import IntegrityError, OperationalError
from sqlalchemy.orm import Session

from mill_lane.store.database import Sessions

T = TypeVar("T")
ATTEMPTS = 5
PAUSE = 0.05  # seconds before the second attempt; each further one waits twice as long


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
                result = work(session)
                session.commit()
                return result
        except (OperationalError, IntegrityError):
            if attempt == ATTEMPTS - 1:
                raise
            time.sleep(PAUSE * 2**attempt)
    raise AssertionError("unreachable")
