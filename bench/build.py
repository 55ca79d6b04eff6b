"""Building the hierarchy of one mesh, on one thread and on two; embreex's build of the same mesh in
the same run.
"""

from __future__ import annotations

import time
from typing import Any

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from bench.scenes import boulder, room
from mill_lane.core.render.build import build_mesh

ROUNDS = 5


def run() -> dict[str, Any]:
    build_mesh(*room())
    positions, triangles = boulder()
    times: dict[str, list[float]] = {"one": [], "two": [], "embreex": []}
    for _ in range(ROUNDS):
        for name, threads in (("one", 1), ("two", 2)):
            start = time.perf_counter()
            nodes, leaves = build_mesh(positions, triangles, threads)
            times[name].append(time.perf_counter() - start)
        start = time.perf_counter()
        scene = rtcore_scene.EmbreeScene(robust=False)
        keep = TriangleMesh(scene, positions, triangles.astype(np.int32))
        scene.run(
            np.zeros((1, 3), np.float32), np.array([[0, 0, 1.0]], np.float32)
        )  # it builds at the first query
        times["embreex"].append(time.perf_counter() - start)
        del keep
    n = len(triangles)
    return {
        "triangles": n,
        "million triangles a second, one thread": n / min(times["one"]) / 1e6,
        "million triangles a second, two threads": n / min(times["two"]) / 1e6,
        "build, two threads / embreex": min(times["embreex"]) / min(times["two"]),
        "bytes a triangle": (nodes.nbytes + leaves.nbytes) / n,
    }
