"""The full demo scene as a file, made once for all benches."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

from mill_lane.demo.make import EDITION, make_demo


def folder() -> Path:
    """Where scenes are kept between benches."""
    found = Path(
        os.environ.get("MILL_LANE_BENCH") or Path(tempfile.gettempdir()) / "mill-lane-bench"
    )
    found.mkdir(parents=True, exist_ok=True)
    return found


def full_demo() -> tuple[Path, float]:
    """The scene, and the seconds it took to make (0 when it was there)."""
    path = folder() / f"bakery-{EDITION}.glb"
    start = time.perf_counter()
    if path.exists():
        return path, 0.0
    make_demo(path, "full")
    return path, time.perf_counter() - start
