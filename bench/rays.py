"""Ray queries against embreex (robust off), one thread, interleaved, on thread CPU time; and two
threads against one.
"""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from bench.scenes import boulder, room
from bench.tracing import camera_rays, second_rays
from mill_lane.core.render.shooting import Shooter, mesh_world

ROUNDS = 11


def run() -> dict[str, Any]:
    figures: dict[str, Any] = {}
    for name, make in (("room", room), ("boulder", boulder)):
        positions, triangles = make()
        world = mesh_world(positions, triangles)
        scene = rtcore_scene.EmbreeScene(robust=False)
        keep = TriangleMesh(scene, positions, triangles.astype(np.int32))
        o, d = camera_rays()
        for kind, (po, pd, far) in second_rays(world, positions, triangles, o, d).items():
            shooter = Shooter(world, po, pd, far)
            eo, ed = shooter.o.copy(), shooter.d.copy()
            ours, theirs, pairs = [], [], []
            for _ in range(ROUNDS):
                distances = shooter.far.copy()
                start = time.thread_time()
                if kind == "shadow":
                    shooter.blocked()
                else:
                    shooter.closest()
                ours.append(time.thread_time() - start)
                start = time.thread_time()
                if kind == "shadow":
                    scene.run(eo, ed, dists=distances, query="OCCLUDED")
                else:
                    scene.run(eo, ed, output=1)
                theirs.append(time.thread_time() - start)
            figures[f"{name}, {kind}: million rays a second"] = len(po) / min(ours) / 1e6
            # Each round's own ratio: what else the machine does changes from one second to the
            # next.
            figures[f"{name}, {kind}: rays / embreex"] = float(
                np.median(np.array(theirs) / np.array(ours))
            )
            if kind == "diffuse":
                for _ in range(ROUNDS):
                    pairs.append(_two_threads(shooter))
                figures[f"{name}, {kind}: two threads / one"] = float(np.median(pairs))
        figures[f"{name}: triangles"] = len(triangles)
        figures[f"{name}: bytes a triangle"] = (world.nodes.nbytes + world.leaves.nbytes) / len(
            triangles
        )
        del keep
    return figures


def _two_threads(shooter: Shooter) -> float:
    """How much faster two threads follow the same rays, on the clock."""
    other = Shooter(shooter.world, shooter.o, shooter.d, shooter.far)
    half = len(shooter.o) // 2
    start = time.perf_counter()
    shooter.closest()
    one = time.perf_counter() - start
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(lambda f: f(), (lambda: None, lambda: None)))
        start = time.perf_counter()
        list(
            pool.map(lambda f: f(), (lambda: shooter.closest(0, half), lambda: other.closest(half)))
        )
        two = time.perf_counter() - start
    return one / two
