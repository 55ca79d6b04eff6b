"""What this process holds in memory, as the kernel counts it (Linux, proc(5))."""

from __future__ import annotations

import contextlib
import ctypes
import gc

import psutil


def resident() -> int:
    """Bytes resident now."""
    return int(psutil.Process().memory_info().rss)


def reset_peak() -> None:
    """Start the high-water mark anew, where the kernel lets us."""
    with contextlib.suppress(OSError), open("/proc/self/clear_refs", "w") as f:
        f.write("5")


def peak_since(baseline: int) -> int:
    """The high-water mark above a baseline, in bytes."""
    with contextlib.suppress(OSError), open("/proc/self/status") as f:
        for line in f:
            if line.startswith("VmHWM:"):
                return max(0, int(line.split()[1]) * 1024 - baseline)
    return max(0, resident() - baseline)


def give_back() -> None:
    """Return freed memory to the system, so that it is not counted against what comes next (GNU C
    library only).
    """
    gc.collect()
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL("libc.so.6").malloc_trim(0)
