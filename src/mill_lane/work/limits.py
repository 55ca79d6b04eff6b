"""What the system is asked for by a process that computes: so much memory, and to end with another.

Light to import: whoever looks into a file waits for it.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import resource
import signal

PR_SET_PDEATHSIG = 1  # prctl(2)


def limit_memory(size: int) -> None:
    """Let this process have at most `size` bytes of private memory; beyond, allocation fails."""
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_DATA, (size, resource.RLIM_INFINITY))


def end_with(parent: int) -> bool:
    """Have the system end this process with the one that started it (Linux, prctl(2)): with the
    thread that did, so that it has to be one that stays.

    Returns whether that one is still there.
    """
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    return os.getppid() == parent
