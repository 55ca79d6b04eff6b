"""Devices in words."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from mill_lane.core.devices.kinds import DEVICE_KINDS


def device_words(snapshot: Mapping[str, Any]) -> str:
    """What something was rendered on, as it was then; its kind may be one of another edition."""
    kind = str(snapshot.get("kind"))
    simulated = kind in DEVICE_KINDS and DEVICE_KINDS[kind].simulated
    return f"{snapshot.get('name', 'a device')}{' (simulated)' if simulated else ''}"
