"""The recorded rays of a render, followed by embreex through the same triangles."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh
from numpy.typing import NDArray

from bench.recording import BLOCKED, NEAREST, PANES
from mill_lane.core.recipe import Recipe
from mill_lane.core.render import slots as s
from mill_lane.core.render.load import Loaded
from mill_lane.core.render.session import Session
from mill_lane.core.render.wide_nodes import NUMBERS
from mill_lane.core.render.world import World

RECIPE = Recipe(width=480, height=270, samples=8, min_samples=1, bounces=2, layers=())


def traced(loaded: Loaded, threads: int = 1) -> tuple[float, float, World]:
    """Trace the recipe: (thread seconds where one thread does it, seconds by the clock, world)."""
    session = Session(loaded, RECIPE, threads=threads, profiled=False)
    start, clock = time.thread_time(), time.perf_counter()
    while not session.done:
        session.step(60.0)
    return time.thread_time() - start, time.perf_counter() - clock, session.world


def flattened(world: World, wanted: NDArray[np.bool_]) -> NDArray[np.float32]:
    """The triangles of the places that are wanted, in the world: float32 (T, 3, 3)."""
    counts = held_blocks(world)
    pieces = []
    for i in np.flatnonzero(wanted):
        first = int(world.instances[i, s.P_LEAF])
        blocks = world.leaves[first : first + counts[first]]
        at, lane = np.nonzero(blocks[:, NUMBERS:].view(np.int32) >= 0)
        corners = blocks[:, :NUMBERS].reshape(-1, 3, 3, 8)[at, :, :, lane].astype(float)
        m = world.to_world[i].reshape(3, 4)
        pieces.append((corners @ m[:, :3].T + m[:, 3]).astype(np.float32))
    return np.concatenate(pieces) if pieces else np.zeros((0, 3, 3), np.float32)


def held_blocks(world: World) -> dict[int, int]:
    """How many blocks the mesh has that begins at each first block."""
    firsts = np.unique(world.instances[:, s.P_LEAF])
    ends = np.append(firsts[1:], len(world.leaves))
    return {int(a): int(b - a) for a, b in zip(firsts, ends, strict=True)}


class Replay:
    """Three scenes of embreex, for what each kind of question looks at, and the rays for each."""

    def __init__(self, world: World, file: Path) -> None:
        flags = world.instances[:, s.P_FLAGS]
        shadowed = (flags & (s.HIDDEN | s.NO_SHADOW)) == 0
        panes = (flags & s.SEE_THROUGH) != 0
        seen = {NEAREST: (flags & s.HIDDEN) == 0, BLOCKED: shadowed & ~panes}
        seen[PANES] = shadowed & panes
        with np.load(file) as kept:
            rays, kinds = kept["rays"], kept["kinds"]
        self.count = len(rays)
        self.parts = []
        for kind, wanted in seen.items():
            mine = rays[kinds == kind]
            corners = flattened(world, wanted)
            if len(mine) == 0 or len(corners) == 0:
                continue
            scene = rtcore_scene.EmbreeScene(robust=False)
            numbers = np.arange(3 * len(corners), dtype=np.int32).reshape(-1, 3)
            mesh = TriangleMesh(scene, corners.reshape(-1, 3), numbers)
            o, d = (np.ascontiguousarray(mine[:, k : k + 3]) for k in (0, 3))
            scene.run(o[:1], d[:1])  # the hierarchy is built with the first question
            self.parts.append((kind, scene, mesh, o, d, np.minimum(mine[:, 6], np.float32(1e30))))

    def seconds(self) -> float:
        """Thread seconds for all of them, once."""
        spent = 0.0
        for kind, scene, _, o, d, far in self.parts:
            distances = far.copy()
            start = time.thread_time()
            if kind == BLOCKED:
                scene.run(o, d, dists=distances, query="OCCLUDED")
            else:
                scene.run(o, d, dists=distances, output=1)
            spent += time.thread_time() - start
        return spent
