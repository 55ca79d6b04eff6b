"""Weighing the demo scene, against the time it takes to read all of its vertices."""

from __future__ import annotations

import time
from typing import Any

from bench.demo import full_demo
from mill_lane.core.formats.opening import check_vertices, open_scene
from mill_lane.core.weigh.measure import weigh


def run() -> dict[str, Any]:
    path, _ = full_demo()
    best: dict[str, float] = {}
    for _ in range(3):
        start = time.perf_counter()
        scene = open_scene(path)
        opened = time.perf_counter()
        check_vertices(scene)
        read = time.perf_counter()
        weigh(scene)
        for name, seconds in (("open", opened - start), ("read vertices", read - opened), ("weigh", time.perf_counter() - read)):
            best[name] = min(best.get(name, 1e9), seconds)
    return {**{f"{k}, s": v for k, v in best.items()}, "weigh / read vertices": best["weigh"] / best["read vertices"]}
