"""Rays of the simple tracer against embreex, one thread, interleaved, on thread CPU time."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from mill_lane.core.render.build import build_mesh
from mill_lane.core.render.traverse import Accel, closest_batch
from mill_lane.demo import shapes


def run() -> dict[str, Any]:
    mesh = shapes.tree(150_000, 7)[1]
    build_mesh(mesh.positions[:300], mesh.triangles[:50])
    start = time.thread_time()
    order, boxes, links = build_mesh(mesh.positions, mesh.triangles)
    built = time.thread_time() - start
    a = Accel(
        boxes[:1].copy(), np.array([[0, 1]], np.uint32), np.zeros(1, np.uint32), np.eye(3, 4, dtype=np.float32).reshape(1, 12),
        np.zeros(1, np.uint32), boxes, links, mesh.triangles[order], mesh.positions,
    )  # fmt: skip
    scene = rtcore_scene.EmbreeScene(robust=True)
    keep = TriangleMesh(scene, mesh.positions, mesh.triangles.astype(np.int32))
    rng = np.random.default_rng(0)
    n = 200_000
    o = (rng.normal(size=(n, 3)) * 3 + [0, 4, 0]).astype(np.float32)
    d = rng.normal(size=(n, 3))
    d = (d / np.linalg.norm(d, axis=1, keepdims=True)).astype(np.float32)
    t, q, i = np.empty(n, np.float32), np.empty(n, np.int32), np.empty(n, np.int32)
    closest_batch(a, o, d, t, q, i)
    ours, theirs = 1e9, 1e9
    for _ in range(5):
        start = time.thread_time()
        closest_batch(a, o, d, t, q, i)
        ours = min(ours, time.thread_time() - start)
        start = time.thread_time()
        scene.run(o, d, output=1)
        theirs = min(theirs, time.thread_time() - start)
    del keep
    return {
        "million rays a second": n / ours / 1e6,
        "rays / embreex (robust)": theirs / ours,
        "build, million triangles a second": len(mesh.triangles) / built / 1e6,
        "nodes and links, bytes a triangle": (boxes.nbytes + links.nbytes) / len(mesh.triangles),
    }
