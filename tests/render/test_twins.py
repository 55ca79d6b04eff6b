"""The vector code of rays against its twins in plain Python, and against long numbers."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest
from pathlib import Path

import numpy as np

from mill_lane.core.render import plain, vectors
from mill_lane.core.render.jit import lean
from mill_lane.core.render.mesh_rays import sheared
from mill_lane.core.render.pointers import f32_at, i64_at
from mill_lane.core.render.wide_nodes import LEAF, NODE

ROOT = Path(__file__).resolve().parents[2]


@lean
def vector_boxes(nodes: int, ray: int, lanes: int, near: int) -> int:
    n, r, out = f32_at(nodes), f32_at(ray), f32_at(lanes)
    return vectors.boxes_entered(
        n,
        0,
        near & 8,
        (near >> 1) & 8,
        (near >> 2) & 8,
        r[0],
        r[1],
        r[2],
        r[3],
        r[4],
        r[5],
        r[6],
        out,
    )


@lean
def vector_triangles(leaves: int, ray: int, lanes: int, axes: int) -> int:
    """Also where the ray's axes begin, int64 (3,), and its origin and shear, to lanes[24:30]."""
    b, r, out, first = f32_at(leaves), f32_at(ray), f32_at(lanes), i64_at(axes)
    (x, y, z), (ox, oy, oz), (sx, sy, sz) = sheared((r[0], r[1], r[2], r[3], r[4], r[5]), out)
    first[0], first[1], first[2] = x, y, z
    out[24], out[25], out[26], out[27], out[28], out[29] = ox, oy, oz, sx, sy, sz
    return vectors.triangles_hit(b, 0, x, y, z, ox, oy, oz, sx, sy, sz, r[6], out)


@unittest.skipUnless(vectors.vectors_available(), "this processor has no vector code to compare")
class TestTwins(unittest.TestCase):
    """The vector code against its twins in plain Python."""

    def test_boxes(self) -> None:
        rng = np.random.default_rng(0)
        for _ in range(300):
            low, high = np.sort(rng.normal(size=(2, 3, 8)).astype(np.float32), axis=0)
            node = np.zeros(NODE, np.float32)
            node[:48] = np.stack([low, high], 1).reshape(-1)
            d, o = rng.normal(size=3), rng.normal(size=3)
            ray = np.array([*(1 / d), *o, rng.uniform(0.1, 4)], np.float32)
            signs = [8 if x < 0 else 0 for x in d]
            a, b = np.zeros(8, np.float32), np.zeros(8, np.float32)
            got = vector_boxes(
                node.ctypes.data,
                ray.ctypes.data,
                a.ctypes.data,
                signs[0] | signs[1] << 1 | signs[2] << 2,
            )
            want = plain.boxes_entered(node, 0, *signs, *ray[:3], *ray[3:6], ray[6], b)
            self.assertEqual(got, int(want))
            # A product and a sum rounded once, or each.
            np.testing.assert_allclose(a, b, rtol=1e-6, atol=2**-22 * abs(o / d).max())
            self.assertEqual(
                int(plain.boxes_touched(node, 0, *signs, *ray[:3], *ray[3:6], ray[6])), got
            )

    def test_no_box_is_missed(self) -> None:
        """Aimed at corners and edges of boxes, flat ones among them, from near and far, also along
        an axis: what is hit in exact numbers is entered.
        """
        rng = np.random.default_rng(2)
        told = 0
        for _ in range(4000):
            low, high = np.sort(rng.normal(size=(2, 3, 8)).astype(np.float32), axis=0)
            flat = rng.random((3, 8)) < 0.2
            low[flat] = high[flat]
            node = np.zeros(NODE, np.float32)
            node[:48] = np.stack([low, high], 1).reshape(-1)
            share = rng.choice([0.0, 1.0, rng.random()], 3)
            target = low[:, 0] * (1 - share) + high[:, 0] * share
            o = (target + rng.normal(size=3) * 10 ** rng.uniform(-3, 4)).astype(np.float32)
            d = ((target - o) / np.linalg.norm(target - o)).astype(np.float32)
            if rng.random() < 0.2:
                k = rng.integers(3)
                d, o = np.eye(3, dtype=np.float32)[k], target.astype(np.float32)
                o[k] -= np.float32(10 ** rng.uniform(-2, 3))
            wide = np.where(d == 0, np.float32(1e-18), d)
            ray = np.array([*(np.float32(1) / wide), *o, 1e6], np.float32)
            # Where each box is entered and left by the ray as it is in float32, in long numbers.
            o_, d_ = o.astype(np.longdouble)[:, None], wide.astype(np.longdouble)[:, None]
            t = np.sort([(low - o_) / d_, (high - o_) / d_], axis=0)
            hit = np.maximum(t[0].max(0), 0) <= t[1].min(0)
            signs = [8 if x < 0 else 0 for x in d]
            lanes = np.zeros(8, np.float32)
            got = vector_boxes(
                node.ctypes.data,
                ray.ctypes.data,
                lanes.ctypes.data,
                signs[0] | signs[1] << 1 | signs[2] << 2,
            )
            twin = int(plain.boxes_touched(node, 0, *signs, *ray[:3], *ray[3:6], ray[6]))
            told += int(hit.sum())
            want = int((hit << np.arange(8)).sum())
            self.assertEqual((want & ~got, want & ~twin), (0, 0), (o, d))
        self.assertGreater(told, 2000)

    def test_triangles(self) -> None:
        rng = np.random.default_rng(1)
        hits = 0
        for _ in range(300):
            block = np.zeros(LEAF, np.float32)
            block[:72] = rng.normal(size=72)
            ray = np.array([*rng.normal(size=3), *rng.normal(size=3), 5.0], np.float32)
            a, b = np.zeros(32, np.float32), np.zeros(32, np.float32)
            axes = np.zeros(3, np.int64)
            got = vector_triangles(*(x.ctypes.data for x in (block, ray, a, axes)))
            self.assertEqual(axes[2], 8 * abs(ray[3:6]).argmax())
            want = int(plain.triangles_hit(block, 0, *axes, *a[24:30], ray[6], b))
            self.assertEqual(got, want)
            touched = plain.triangles_touched(block, 0, *axes, *a[24:30], ray[6])
            self.assertEqual(int(touched), want)
            for k in range(8):
                if want >> k & 1:
                    np.testing.assert_allclose(
                        a[[k, 8 + k, 16 + k]], b[[k, 8 + k, 16 + k]], rtol=2e-3, atol=1e-4
                    )
                    hits += 1
        self.assertGreater(hits, 100)

    def test_the_slow_way_renders_the_same(self) -> None:
        """A process that may not use the vectors finds the same hits."""
        code = (
            "import numpy as np\nfrom mill_lane.core.render.jit import VECTORS\n"
            "from mill_lane.core.render.shooting import Shooter, mesh_world\nfrom mill_lane.demo "
            "import shapes\n"
            "g = shapes.loaf(0.3, 0.16, 0.13, 30, 3, 4)\nr = np.random.default_rng(0)\n"
            "s = Shooter(mesh_world(g.positions, g.triangles), r.normal(size=(4000, 3)), "
            "-r.normal(size=(4000, 3)))\n"
            "s.closest()\nprint(int(VECTORS), int(s.numbers.sum()), float(np.where(s.slots >= 0, "
            "s.t, 0).sum()))"
        )
        out = []
        for scalar in ("", "1"):
            env = {**os.environ, "MILL_LANE_SCALAR": scalar}
            done = subprocess.run(
                [sys.executable, "-c", code], capture_output=True, text=True, check=True, env=env
            )
            out.append([float(x) for x in done.stdout.split()])
        self.assertEqual((out[0][0], out[1][0]), (1, 0))
        self.assertEqual(out[0][1], out[1][1])
        self.assertAlmostEqual(out[0][2], out[1][2], places=2)
