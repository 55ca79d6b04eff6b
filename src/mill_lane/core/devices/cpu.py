"""This computer, as found."""

from __future__ import annotations

import os
from dataclasses import dataclass
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
