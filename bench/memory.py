"""The ledger's total against the measured peak of a real render process over its baseline, before and after trimming."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

from bench.demo import full_demo


def command(*args: str) -> dict[str, Any]:
    """A mill-lane command in a process of its own, as JSON."""
    done = subprocess.run([sys.executable, "-m", "mill_lane.cli", *args, "--json"], capture_output=True, text=True, check=True)
    result: dict[str, Any] = json.loads(done.stdout)
    return result


def run() -> dict[str, Any]:
    scene, made = full_demo()
    trimmed, out = scene.with_name("trimmed.glb"), scene.with_name("out.exr")
    trim = command("trim", str(scene), "--out", str(trimmed))
    figures: dict[str, Any] = {"demo built, s": made, "trim saved, GB": trim["saved_bytes"] / 1e9}
    for name, path in (("before", scene), ("after", trimmed)):
        r = command("render", str(path), "--out", str(out), "--samples", "1", "--threads", "2")
        figures[f"{name} trimming: predicted, GB"] = r["predicted_memory_bytes"] / 1e9
        figures[f"{name} trimming: measured peak, GB"] = r["peak_memory_bytes"] / 1e9
        figures[f"{name} trimming: predicted / measured"] = r["predicted_memory_bytes"] / r["peak_memory_bytes"]
        figures[f"{name} trimming: loading, s"] = r["setup_seconds"]
        figures[f"{name} trimming: 1 sample a pixel, s"] = r["seconds"]
    Path(out).unlink()
    return figures
