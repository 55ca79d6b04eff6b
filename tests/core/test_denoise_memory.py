"""What denoising takes in memory, predicted and measured in a process of its own."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

from mill_lane.core.denoise.sizes import denoise_bytes
from mill_lane.core.formats.exr import write_exr
from mill_lane.core.render.layers import exr_names
from tests.core.test_denoise import noisy
from tests.thorough import EVERYTHING

CHILD = """
import json, sys
from pathlib import Path
from mill_lane.work.kinds.denoise import DENOISE, Request, Wanted
folder = Path(sys.argv[1])
request = Request(exr=folder / "in.exr", exposure=0, wanted=Wanted(radius=2), later=True,
                  folder=folder)
found = DENOISE.run(request, lambda share, text: None)
print(json.dumps(found.measured))
"""


def of_a_process(folder: str) -> int:
    """Return the most that a process of its own held, in bytes, while it denoised `in.exr`."""
    done = subprocess.run(
        [sys.executable, "-c", CHILD, folder], capture_output=True, text=True, check=True
    )
    return int(json.loads(done.stdout.splitlines()[-1])["peak_memory_bytes"])


class TestMemory(unittest.TestCase):
    def test_predicted_and_measured(self) -> None:
        """Within a third, for a picture of one strip; in all of the checks, of two as well."""
        for times in ((6, 6), (12, 18)) if EVERYTHING else ((6, 6),):
            layers, _ = noisy(0.08)
            large = {k: np.tile(v, times + (1,) * (v.ndim - 2)) for k, v in layers.items()}
            for guide in ("albedo", "normal", "depth"):
                layers[f"{guide}_variance"] = np.full_like(layers[guide], 1e-4)
                large[f"{guide}_variance"] = np.full_like(large[guide], 1e-4)
            with tempfile.TemporaryDirectory() as held:
                write_exr(Path(held) / "in.exr", large, names=exr_names())
                of_a_process(held)  # compiled here, not in what is measured
                measured = of_a_process(held)
            height, width = large["beauty"].shape[:2]
            ratio = measured / denoise_bytes(width, height)
            self.assertTrue(0.67 < ratio < 1.33, (times, measured, ratio))
