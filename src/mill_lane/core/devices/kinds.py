"""The kinds of device, one entry each: whether it is simulated, and what can be set of it."""

from __future__ import annotations

from dataclasses import dataclass

from mill_lane.core.registry import Registry


@dataclass(frozen=True)
class DeviceKind:
    """A kind of device.

    Attributes
    ----------
    name : str
        By which devices say what they are.
    title : str
        What it is called where one is added: "simulated card".
    simulated : bool
        Whether only its memory is modelled, and this computer's CPU computes its pixels.
    addable : bool
        Whether one can be added by hand; others are found on the machine.
    batches : bool
        Whether it keeps a number of paths in flight, rather than one for each thread.
    settings : tuple of str
        The fields of `Device` that can be changed, beside what is kept for the desktop.
    """

    name: str
    title: str
    simulated: bool = False
    addable: bool = False
    batches: bool = False
    settings: tuple[str, ...] = ()


CPU = DeviceKind("cpu", "processor", settings=("threads_free",))
CARD = DeviceKind(
    "card",
    "simulated card",
    simulated=True,
    addable=True,
    batches=True,
    settings=("name", "memory_bytes", "samples_in_flight"),
)
DEVICE_KINDS: Registry[DeviceKind] = Registry("kind of device", CPU, CARD)
