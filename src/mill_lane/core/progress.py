"""How long work tells what it is doing, and how it learns that nobody wants it any more."""

from __future__ import annotations

from collections.abc import Callable

# Called with a share done from 0 to 1 and a short line of text.  It may raise `Cancelled` to stop
# the work.
Progress = Callable[[float, str], None]


class Cancelled(Exception):
    """Raised by a progress callback: stop, and leave nothing half done."""


LITTLE, SOON = 0.03, 1.0  # share done and seconds before time left is told


def left_of(share: float, seconds: float, least: float = LITTLE) -> float | None:
    """Seconds left, by the pace so far; None while there is little to go by.

    Parameters
    ----------
    share : float
        What was done, 0 to 1.
    seconds : float
        That it took.
    least : float
        The share from which on time is told.
    """
    if share < least or seconds < SOON:
        return None
    return seconds * (1 - share) / share


def silent(share: float, text: str) -> None:
    """The progress callback of a caller who does not want to hear."""


def of_megabytes(done: float, total: float) -> str:
    """How much of something is done, in words: "120 of 340 MB"."""
    digits = 0 if total >= 10**7 else 1
    return f"{done / 1e6:,.{digits}f} of {total / 1e6:,.{digits}f} MB"


def part(progress: Progress, start: float, end: float) -> Progress:
    """A callback for a step that covers `start` to `end` of the whole."""

    def inner(share: float, text: str) -> None:
        progress(start + (end - start) * share, text)

    return inner
