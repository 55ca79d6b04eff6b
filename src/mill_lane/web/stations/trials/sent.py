"""Files that are sent for a trial: looked over beside the database, then kept with it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from sqlalchemy.orm import Session

from mill_lane.jobs.lookup import find_render
from mill_lane.store.home import Home
from mill_lane.store.models import Render
from mill_lane.store.transactions import write
from mill_lane.web.shared.context import Done, home_of
from mill_lane.web.shared.uploads import received

T = TypeVar("T")


async def sent_for_trial(
    request: Request,
    trial: int,
    name: str,
    limit: int,
    words: tuple[str, str],
    look: Callable[[Home, Render, Path, str], T],
    keep: Callable[[Session, Render, T], None],
) -> Done:
    """Receive a file for a trial.

    Parameters
    ----------
    request : Request
    trial : int
        The id of its render.
    name : str
        Of the file, fit to be shown.
    limit : int
        Bytes.
    words : (str, str)
        What to do where it is too large, and where it is empty.
    look : callable
        Reads the file; takes no part in a transaction.
    keep : callable
        Keeps what came of it; called again where the transaction is tried again.
    """
    home = home_of(request)
    async with received(request, home.scratch, name, limit, *words) as upload:

        def take() -> None:
            with home.sessions() as db:
                row = find_render(db, trial, "trial")
            found = look(home, row, upload.path, name)
            write(home.sessions, lambda db: keep(db, find_render(db, trial, "trial"), found))

        await run_in_threadpool(take)
    return Done()
