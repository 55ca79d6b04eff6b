"""Telling a full disk from other trouble: libraries that write files do not say."""

from __future__ import annotations

import errno
import os
import shutil
from pathlib import Path

LEAST_BYTES = 1 << 20  # with less than that free, a file that could not be written found no room


def check_disk(path: Path) -> None:
    """Raise OSError (ENOSPC) when there is no room where a file could not be written."""
    if shutil.disk_usage(path.parent).free < LEAST_BYTES:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(path))
