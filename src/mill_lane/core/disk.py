"""Room on a disk: what is free, refusing what does not fit, a full disk told from other trouble."""

from __future__ import annotations

import errno
import os
import shutil
from pathlib import Path

from mill_lane.core.errors import MillError

RESERVE = 500 * 10**6  # bytes that are left to everything else, at most
RESERVE_SHARE = 0.02  # of the disk
LEAST_BYTES = 1 << 20  # with less than that free, a file that could not be written found no room


def free_bytes(folder: Path) -> int:
    """What may still be written there: what is free less a reserve, at least 0."""
    disk = shutil.disk_usage(folder)
    return max(0, disk.free - reserve(disk.total))


def reserve(total: int) -> int:
    """What is left free on a disk of so many bytes."""
    return int(min(RESERVE, total * RESERVE_SHARE))


def amount(size: int) -> str:
    """Bytes in words: 1.2 GB, 340 MB, 12 kB."""
    for unit, factor in (("GB", 10**9), ("MB", 10**6)):
        if size >= factor:
            return f"{size / factor:.3g} {unit}"
    return f"{size / 1000:.3g} kB"


def check_room(folder: Path, needed: int, what: str) -> None:
    """Raise MillError when so many bytes would not fit."""
    if needed > free_bytes(folder):
        raise full(folder, needed, what)


def full(folder: Path, needed: int | None, what: str) -> MillError:
    """The error for what does not fit, with what it needs and what there is."""
    needs = f"needs {amount(needed)}" if needed is not None else "does not fit"
    return MillError(
        f"The disk is full: {what} {needs}, {amount(free_bytes(folder))} free.",
        "Make room on the disk, or see on the first page what can be freed here.",
        "Nothing was imported; everything finished before is kept.",
    )


def check_disk(path: Path) -> None:
    """Raise OSError (ENOSPC) when there is no room where a file could not be written.

    Libraries that write files do not say why they failed.
    """
    if shutil.disk_usage(path.parent).free < LEAST_BYTES:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(path))
