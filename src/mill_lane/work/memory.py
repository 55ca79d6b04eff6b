"""What this process holds in memory, as the kernel counts it (Linux, proc(5))."""

from __future__ import annotations

import contextlib
import ctypes
import gc
from pathlib import Path

import psutil

FREE_SHARE = 0.95
M_MMAP_THRESHOLD, LARGE_BLOCK = -3, 1 << 20  # malloc.h; bytes
SMALLEST_LIMIT = 512 * 10**6  # bytes


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


def return_large_blocks() -> None:
    """Have the C library give blocks of a megabyte and more back as soon as they are freed.

    Left alone it keeps what was let go of for the next time, up to 32 MB at once, and a process
    then holds more than it uses (mallopt(3), GNU C library only).
    """
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL("libc.so.6").mallopt(M_MMAP_THRESHOLD, LARGE_BLOCK)


def most_memory() -> int:
    """Bytes that a process may have of this computer now: what is free and what it holds, less a
    little for everything else.
    """
    return int(max(SMALLEST_LIMIT, resident() + free_now() * FREE_SHARE))


def free_now() -> int:
    """Bytes that are free for this process."""
    return int(min(psutil.virtual_memory().available, _group_free()))


def _group_free() -> int:
    """Bytes that the control group of this process has left (cgroup v2); very many without one."""
    try:
        name = Path("/proc/self/cgroup").read_text().strip().rpartition("::")[2].lstrip("/")
        folder = Path("/sys/fs/cgroup") / name
        most, now = (folder / "memory.max").read_text(), (folder / "memory.current").read_text()
        return max(0, int(most) - int(now))
    except (OSError, ValueError):
        return 1 << 60
