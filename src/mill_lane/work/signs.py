"""Signs of life of the worker, over a pipe to the server: they need no disk and no database."""

from __future__ import annotations

import time
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Literal

Doing = Literal["starts", "begins", "idle", "looks for work", "works", "keeps"]
RHYTHM = 0.5  # seconds between two signs that say the same, at least


@dataclass(frozen=True)
class Sign:
    """What the worker said last.

    Attributes
    ----------
    doing : str
    trouble : str
        What keeps it from going on; empty where nothing does.
    child : int or None
        The process that computes.
    """

    doing: Doing = "starts"
    trouble: str = ""
    child: int | None = None


class Signs:
    """The worker's end; without a pipe nobody listens."""

    def __init__(self, pipe: Connection | None = None) -> None:
        self.pipe = pipe
        self.said = Sign()
        self.last = 0.0

    def tell(self, doing: Doing, trouble: str = "", child: int | None = None) -> None:
        """Say what is being done; at once where it is something else than before."""
        sign = Sign(doing, trouble, child)
        if sign != self.said or time.monotonic() - self.last > RHYTHM:
            self.said = sign
            self._send()

    def beat(self) -> None:
        """Say the same again, if it is time."""
        if time.monotonic() - self.last > RHYTHM:
            self._send()

    def _send(self) -> None:
        self.last = time.monotonic()
        if self.pipe is None:
            return
        try:
            self.pipe.send(self.said)
        except OSError:  # nobody listens any more; the worker finds that out by itself
            self.pipe = None
