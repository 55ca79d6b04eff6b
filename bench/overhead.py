"""What counting work costs, and what keeping all layers costs: the room, one thread,
interleaved.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from bench.hall import rendered, room_scene
from mill_lane.core.render.layers import LAYERS

ROUNDS = 7


def run() -> dict[str, Any]:
    scene, _, _ = room_scene()
    layers = tuple(x for x in LAYERS.names if x != "work")
    ways: dict[str, dict[str, Any]] = {
        "plain": {},
        "profile": {"profiled": True},
        "layers": {"layers": layers},
        "both": {"profiled": True, "layers": LAYERS.names},
    }
    times: dict[str, list[float]] = {k: [] for k in ways}
    for _ in range(ROUNDS):
        for name, more in ways.items():
            times[name].append(rendered(scene, **more)[0])
    # Each round's own ratios: what else the machine does changes from one minute to the next.
    ratio = {k: float(np.median(np.array(v) / np.array(times["plain"]))) for k, v in times.items()}
    return {
        "plain, s": float(np.median(times["plain"])),
        "profile / plain": ratio["profile"],
        "all layers / plain": ratio["layers"],
        "profile and all layers / plain": ratio["both"],
    }
