"""Meshes for the benches:

a furnished room of about 100,000 triangles, and one surface of over a million.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.model import Geometry
from mill_lane.demo import shapes

Mesh = tuple[NDArray[np.float32], NDArray[np.uint32]]


def joined(pieces: list[Mesh]) -> Mesh:
    """Several meshes as one."""
    starts = np.cumsum([0] + [len(p) for p, _ in pieces[:-1]])
    positions = np.concatenate([p for p, _ in pieces]).astype(np.float32)
    triangles = np.concatenate(
        [t.astype(np.int64) + n for (_, t), n in zip(pieces, starts, strict=True)]
    )
    return np.ascontiguousarray(positions), np.ascontiguousarray(triangles.astype(np.uint32))


def bare(
    g: Geometry, turn: NDArray[np.float64] | None = None, at: NDArray[np.float64] | None = None
) -> Mesh:
    """Positions and triangles of a shape, turned and moved."""
    p = g.positions.astype(float)
    p = p if turn is None else p @ turn.T
    return (p if at is None else p + at).astype(np.float32), g.triangles


def room() -> Mesh:
    """A hall of 10 x 4 x 8 m full of crates, balls and loaves, thrown at random from a fixed
    seed.
    """
    rng = np.random.default_rng(1)
    pieces = [bare(shapes.box((10.0, 4.0, 8.0)))]
    for _ in range(1200):
        turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
        at = rng.uniform([-4.7, 0.1, -3.8], [4.7, 3.0, 3.8])
        pieces.append(bare(shapes.box(tuple(rng.uniform(0.03, 0.5, 3))), turn, at))
    for i in range(120):
        turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
        at = rng.uniform([-4.5, 0.2, -3.6], [4.5, 3.4, 3.6])
        shape = (
            shapes.ball(rng.uniform(0.05, 0.35), 20)
            if i % 2
            else shapes.loaf(0.5, 0.25, 0.2, 20, 3, i)
        )
        pieces.append(bare(shape, turn, at))
    return joined(pieces)


def boulder(side: int = 740) -> Mesh:
    """A lumpy surface of 2 x side x side triangles in the same hall: 1.1 million."""
    u, v = np.meshgrid(
        np.linspace(0, np.pi, side + 1), np.linspace(0, 2 * np.pi, side + 1), indexing="ij"
    )
    d = np.stack([np.sin(u) * np.cos(v), np.cos(u), np.sin(u) * np.sin(v)], -1).reshape(-1, 3)
    lumps = (
        1
        + 0.08 * np.sin(9 * d[:, 0]) * np.sin(11 * d[:, 1]) * np.sin(7 * d[:, 2])
        + 0.01 * np.sin(60 * d).prod(1)
    )
    i, j = np.meshgrid(np.arange(side), np.arange(side), indexing="ij")
    a = (i * (side + 1) + j).ravel()
    b, c, e = a + 1, a + side + 1, a + side + 2
    triangles = np.concatenate([np.stack([a, c, e], 1), np.stack([a, e, b], 1)])
    ball = (d * lumps[:, None] * 1.3 + [0, 1.6, 0]).astype(np.float32), triangles.astype(np.uint32)
    return joined([bare(shapes.box((10.0, 4.0, 8.0))), ball])
