"""Building while other threads take and give back memory: what is in use stays in use."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest
from pathlib import Path

# One heap for all threads without small caches of their own: what is given back too early is soon
# somebody else's.
SHARED = {"GLIBC_TUNABLES": "glibc.malloc.tcache_count=0:glibc.malloc.arena_max=1"}
CODE = """
import threading
import numpy as np
from mill_lane.core.render.build import SCRATCH, build_mesh
from mill_lane.demo import shapes

g = shapes.ball(1.0, 96)
want = build_mesh(g.positions, g.triangles, 1)
done = threading.Event()

def churn():
    while not done.is_set():
        held = [np.full(SCRATCH, np.nan, np.float32) for _ in range(8)]
        del held

threads = [threading.Thread(target=churn) for _ in range(2)]
for t in threads:
    t.start()
same = True
for _ in range(40):
    got = build_mesh(g.positions, g.triangles, 1)
    same = same and all(a.tobytes() == b.tobytes() for a, b in zip(got, want))
done.set()
for t in threads:
    t.join()
print("same" if same else "other")
"""


class TestMemory(unittest.TestCase):
    def test_the_tree_is_the_same_whatever_others_do(self) -> None:
        done = subprocess.run(
            [sys.executable, "-c", CODE],
            env=os.environ | SHARED,
            cwd=Path(__file__).parents[2],
            capture_output=True,
            text=True,
            timeout=300,
            check=False,
        )
        self.assertEqual((done.returncode, done.stdout.strip()), (0, "same"), done.stderr[-800:])
