"""What is told of a task that failed through no fault of the file it was given.

Each of them says "again": what the task owns stays, so that it can be run again.
"""

from __future__ import annotations

import signal
from pathlib import Path
from typing import Any

from mill_lane.core.disk import amount, free_bytes

KEPT = "Everything finished before is kept."
MEMORY = "memory"  # the code of what may go on with less of it
Told = dict[str, Any]


def _told(error: str, hint: str, kept: str = KEPT) -> Told:
    return {"error": error, "hint": hint, "kept": kept, "again": True}


def memory_full() -> Told:
    """For a child that reached its limit."""
    hint = "Look at Fit; trim textures, or render a smaller picture."
    return _told("This computer's memory is full.", hint) | {"code": MEMORY}


def disk_full(folder: Path) -> Told:
    """For a child that could not write what it made."""
    try:
        there = f" {amount(free_bytes(folder))} are free."
    except OSError:
        there = ""
    return _told(f"The disk is full.{there}", "Make room on the disk, then run it again.")


def unforeseen(error: Exception) -> Told:
    """For an error that nothing was made to expect."""
    return _told(
        f"Something unforeseen went wrong: {type(error).__name__}: {error}"[:500],
        "Run it again. If it happens again, the server's terminal shows where.",
    )


def died(code: int) -> Told:
    """For a child that is gone; `code` is its exit code, negative for a signal."""
    try:
        name = signal.Signals(-code).name if code < 0 else f"status {code}"
    except ValueError:
        name = f"signal {-code}"
    why = " The system probably ran out of memory." if -code == signal.SIGKILL else ""
    return _told(
        f"The render process was ended from outside ({name}).{why}",
        "Run it again with one click: it goes on from its last checkpoint.",
    ) | {"killed": True}


def killed(attempts: int) -> Told:
    """For a task that nobody survived doing."""
    return _told(
        f"The process that did this was killed {attempts} times.",
        "Run it again; if it stops at the same place, make the picture or the scene smaller.",
    ) | {
        "killed": True,
        "code": MEMORY,
    }  # what the system kills again and again takes too much, as a rule


def not_kept(error: Exception) -> Told:
    """For a result that could not be written down."""
    return _told(
        f"The result could not be kept: {error}"[:500],
        "Run it again. If it happens again, the server's terminal shows where.",
        "Everything finished before is kept.",
    )


def unknown_kind(name: str) -> Told:
    """For a task that this edition knows nothing of."""
    return _told(
        f"This edition of Mill Lane does not know what “{name}” is.",
        "Start the edition that began it.",
    )
