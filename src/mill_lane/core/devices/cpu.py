"""This computer, as found."""

from __future__ import annotations

import contextlib
import os
import time
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import psutil

from mill_lane.core.devices.model import Device


@dataclass(frozen=True)
class Machine:
    """What was read off this computer: names and bytes."""

    processor: str
    threads: int
    memory_bytes: int
    available_bytes: int
    load: float  # processes wanting the processor, mean of the last minute


def find_machine() -> Machine:
    """Read the machine's facts now."""
    memory = psutil.virtual_memory()
    return Machine(
        processor=_processor(),
        threads=len(os.sched_getaffinity(0)),
        memory_bytes=int(memory.total),
        available_bytes=int(memory.available),
        load=psutil.getloadavg()[0],
    )


HELD_SECONDS = 2.0  # that a look at other programs is good for


def held_by_others() -> int:
    """Bytes that other programs, and the system itself, hold now.

    What this process and those that it started hold is not among them: the scene that was loaded
    last makes way for the next one.  Nor are files that are mapped, which can be let go of: several
    processes that map the same library or texture hold it once.
    """
    return _held(int(time.monotonic() / HELD_SECONDS))


@lru_cache(maxsize=1)
def _held(turn: int) -> int:
    memory, ours = psutil.virtual_memory(), psutil.Process()
    own = {p.pid: _private(p) for p in (ours, *ours.children(recursive=True))}
    others = sum(_private(p) for p in psutil.process_iter() if p.pid not in own)
    # What they hold by themselves at least; what the system holds is in the first figure alone.
    return max(int(memory.total - memory.available) - sum(own.values()), others, 0)


def _private(process: psutil.Process) -> int:
    """Bytes in memory that no file stands behind and nobody shares; 0 where it is gone."""
    with contextlib.suppress(psutil.Error):
        held = process.memory_info()
        return max(0, int(held.rss - getattr(held, "shared", 0)))
    return 0


def as_it_is_now(device: Device) -> Device:
    """This computer's device with what other programs hold of its memory now."""
    return device.model_copy(update={"held_bytes": min(held_by_others(), device.memory_bytes)})


def _processor() -> str:
    try:
        for line in Path("/proc/cpuinfo").read_text().splitlines():
            if line.startswith("model name"):
                return line.split(":", 1)[1].strip()
    except OSError:
        pass
    return "Processor"


def cpu_device(machine: Machine) -> Device:
    """The CPU as a device; what other programs hold now is kept for them."""
    return Device(
        name="This computer's CPU",
        kind="cpu",
        memory_bytes=machine.memory_bytes,
        desktop_bytes=min(
            machine.memory_bytes - machine.available_bytes, machine.memory_bytes // 2
        ),
        threads=machine.threads,
        threads_free=1 if machine.threads > 1 else 0,
    )
