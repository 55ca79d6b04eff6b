"""A kind of device: a computer in another room, of which only the memory is modelled."""

from __future__ import annotations

from mill_lane.core.devices.kinds import DeviceKind

NODE = DeviceKind(
    "node",
    "simulated computer elsewhere",
    simulated=True,
    addable=True,
    settings=("name", "memory_bytes", "threads_free"),
)
