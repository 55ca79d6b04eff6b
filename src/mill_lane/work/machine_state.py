"""What else the machine is doing at a moment: recorded beside whatever is measured."""

from __future__ import annotations

from dataclasses import dataclass

import psutil


@dataclass(frozen=True)
class MachineState:
    """The machine at a moment.

    Attributes
    ----------
    load : float
        Processes that run or wait, mean over a minute.
    memory_free : int
        Bytes.
    temperature : float or None
        Degrees Celsius, of the hottest sensor; None where none is told.
    """

    load: float
    memory_free: int
    temperature: float | None


def state_now() -> MachineState:
    """Look at the machine."""
    return MachineState(psutil.getloadavg()[0], psutil.virtual_memory().available, hottest())


def hottest() -> float | None:
    """The hottest sensor, degrees Celsius; None where the system tells none."""
    try:
        found = psutil.sensors_temperatures()
    except (AttributeError, OSError):  # not on every system
        return None
    told = [entry.current for group in found.values() for entry in group]
    known = [t for t in told if t is not None and t > 0]
    return max(known) if known else None
