"""A 4K picture denoised on the command line, in a process of its own: what it takes in memory."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

from mill_lane.core.formats.exr import write_exr
from mill_lane.core.render.layers import exr_names

WIDE, HIGH = 3840, 2160


def noisy_layers() -> dict[str, np.ndarray]:
    """All layers that count, with noise in every one."""
    rng = np.random.default_rng(1)
    y, x = np.mgrid[:HIGH, :WIDE].astype(np.float32)
    albedo = (0.3 + 0.4 * ((x // 40 + y // 40) % 2))[..., None].repeat(3, 2)
    light = (0.6 + 0.3 * np.sin(x / 300) * np.cos(y / 200))[..., None]

    def noise(sigma: float, depth: int) -> np.ndarray:
        return rng.normal(0, sigma, (HIGH, WIDE, depth)).astype(np.float32)

    halves = [(albedo * light + noise(0.1, 3)).clip(0) for _ in range(2)]
    layers = {
        "beauty": (halves[0] + halves[1]) / 2,
        "half_a": halves[0],
        "half_b": halves[1],
        "albedo": albedo + noise(0.02, 3),
        "normal": noise(0.02, 3) + np.float32([0, 0, 1]),
        "depth": (2 + x / WIDE)[..., None] + noise(0.02, 1),
    }
    for guide in ("albedo", "normal", "depth"):
        layers[f"{guide}_variance"] = np.full_like(layers[guide], 4e-4)
    return {name: np.squeeze(layer).astype(np.float32) for name, layer in layers.items()}


def peak_of_4k() -> int:
    """Bytes beyond those of the process before it began."""
    with tempfile.TemporaryDirectory() as held:
        folder = Path(held)
        write_exr(folder / "in.exr", noisy_layers(), names=exr_names())
        command = [sys.executable, "-m", "mill_lane.cli", "denoise", "in.exr", "--out", "out.exr"]
        done = subprocess.run(
            [*command, "--json"], cwd=folder, capture_output=True, text=True, check=True
        )
        return int(json.loads(done.stdout)["peak_memory_bytes"])
