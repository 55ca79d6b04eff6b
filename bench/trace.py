"""What path tracing costs beside its bare rays, on real scenes and in the room; and threads.

For each scene all rays of a render are recorded, and embreex follows them again through the same
triangles; the ratio is its time over that of the whole path tracing, on one thread.  Then the
bakery on two threads, and in two processes at once, against one.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from bench import hall
from bench.real_scenes import NAMES, held
from bench.replay import Replay, traced

OPTIONS = {"rounds": 5}
KEYS = {name: f"{name}_embree_ratio" for name in NAMES}


def run(rounds: int = OPTIONS["rounds"]) -> dict[str, Any]:
    figures: dict[str, Any] = {}
    with tempfile.TemporaryDirectory() as folder:
        for name in NAMES:  # made and decoded before anything is timed
            held(name)
        recorder = [sys.executable, "-m", "bench.recording", folder, *NAMES]
        subprocess.run(recorder, check=True, env=os.environ | {"MILL_LANE_CACHE": folder})
        for name in NAMES:
            loaded = held(name)
            replay = Replay(traced(loaded)[2], Path(folder) / f"{name}.npz")
            pairs = []
            for _ in range(rounds):
                path = traced(loaded)[0]
                pairs.append((replay.seconds() / path, path, replay.count / path / 1e6))
            ratio, path, rate = (float(x) for x in np.median(pairs, axis=0))
            figures[KEYS[name]] = ratio
            figures[f"{name}: path tracing, thread seconds"] = path
            figures[f"{name}: million rays a second"] = rate
    return figures | _two(rounds) | hall.run()


def _two(rounds: int) -> dict[str, float]:
    """How much faster two threads, and two processes, do the bakery than one."""
    command = [sys.executable, "-m", "bench.one_render", "bakery"]
    pipes: dict[str, Any] = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "text": True}
    first, second = (subprocess.Popen(command, **pipes) for _ in range(2))

    def begin(process: Any, threads: int) -> None:
        process.stdin.write(f"{threads}\n")
        process.stdin.flush()

    def seconds(process: Any) -> float:
        return float(json.loads(process.stdout.readline())["seconds"])

    def alone(threads: int) -> float:
        begin(first, threads)
        return seconds(first)

    try:
        for process in (first, second):
            begin(process, 1)
            seconds(process)
        ratios = []
        for _ in range(rounds):
            one, two = alone(1), alone(2)
            begin(first, 1)
            begin(second, 1)
            both = max(seconds(first), seconds(second))
            ratios.append((one / two, 2 * one / both))
        threads, processes = (float(x) for x in np.median(ratios, axis=0))
    finally:
        for process in (first, second):
            process.stdin.close()
            process.wait()
    return {"threads_ratio": threads, "processes_ratio": processes}
