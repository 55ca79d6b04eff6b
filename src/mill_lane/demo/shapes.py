"""Meshes made by code: grids, boxes, turned profiles, loaves, trees.  Metres, Y up."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.model import Geometry

Array = NDArray[np.float64]


def grid(nu: int, nv: int) -> NDArray[np.uint32]:
    """Triangles of (nu + 1) x (nv + 1) points, row by row."""
    i, j = np.meshgrid(np.arange(nu), np.arange(nv), indexing="ij")
    a = (i * (nv + 1) + j).ravel()
    b, c = a + 1, a + nv + 1
    return np.concatenate([np.stack([a, c, c + 1], 1), np.stack([a, c + 1, b], 1)]).astype(
        np.uint32
    )


def surface(points: Array, repeat: tuple[float, float] = (1.0, 1.0)) -> Geometry:
    """A grid of points (nu + 1, nv + 1, 3) with smooth normals; UV runs along the grid."""
    nu, nv = points.shape[0] - 1, points.shape[1] - 1
    du, dv = np.gradient(points, axis=0), np.gradient(points, axis=1)
    normals = np.cross(du, dv)
    # At poles a row shrinks to a point and the cross product to nothing: take the neighbour's.
    length = np.linalg.norm(normals, axis=2)
    for row, other in ((0, 1), (nu, nu - 1)):
        if (length[row] < 1e-12).any():
            normals[row] = normals[other].mean(0)
    length = np.linalg.norm(normals, axis=2, keepdims=True)
    normals = np.where(length > 0, normals / np.where(length > 0, length, 1), (0.0, 1.0, 0.0))
    u, v = np.meshgrid(
        np.linspace(0, repeat[0], nu + 1), np.linspace(0, repeat[1], nv + 1), indexing="ij"
    )
    return Geometry(
        points.reshape(-1, 3).astype(np.float32),
        normals.reshape(-1, 3).astype(np.float32),
        np.stack([u, v], -1).reshape(-1, 2).astype(np.float32),
        grid(nu, nv),
    )


def join(*pieces: Geometry) -> Geometry:
    """One mesh of several."""
    offsets = np.cumsum([0] + [len(p.positions) for p in pieces[:-1]])
    return Geometry(
        np.concatenate([p.positions for p in pieces]),
        np.concatenate([p.normals for p in pieces]),
        np.concatenate([p.uvs for p in pieces if p.uvs is not None]),
        np.concatenate([p.triangles + np.uint32(o) for p, o in zip(pieces, offsets, strict=True)]),
    )


def moved(g: Geometry, by: tuple[float, float, float]) -> Geometry:
    """The same shape elsewhere."""
    return Geometry(g.positions + np.array(by, np.float32), g.normals, g.uvs, g.triangles)


def sheet(origin: Array, along: Array, across: Array, cells: tuple[int, int] = (1, 1)) -> Geometry:
    """A flat sheet from a corner; its front faces `along` x `across`, and V runs down from the far
    edge.
    """
    s, t = np.meshgrid(
        np.linspace(0, 1, cells[0] + 1), np.linspace(0, 1, cells[1] + 1), indexing="ij"
    )
    points = origin + s[..., None] * along + t[..., None] * across
    g = surface(points)
    uvs = np.stack([s, 1 - t], -1).reshape(-1, 2).astype(np.float32)
    return Geometry(g.positions, g.normals, uvs, g.triangles)


def box(size: tuple[float, float, float], cells: int = 1) -> Geometry:
    """A box standing on y = 0, its faces divided into cells x cells, each with the whole
    texture.
    """
    x, y, z = size[0] / 2, size[1], size[2] / 2
    a = np.array
    faces = [
        (a([-x, 0, z]), a([2 * x, 0, 0]), a([0, y, 0])),
        (a([x, 0, -z]), a([-2 * x, 0, 0]), a([0, y, 0])),
        (a([x, 0, z]), a([0, 0, -2 * z]), a([0, y, 0])),
        (a([-x, 0, -z]), a([0, 0, 2 * z]), a([0, y, 0])),
        (a([-x, y, z]), a([2 * x, 0, 0]), a([0, 0, -2 * z])),
        (a([-x, 0, -z]), a([2 * x, 0, 0]), a([0, 0, 2 * z])),
    ]
    return join(
        *(
            sheet(o.astype(float), u.astype(float), v.astype(float), (cells, cells))
            for o, u, v in faces
        )
    )


def turned(profile: list[tuple[float, float]], sides: int, rings: int = 0) -> Geometry:
    """A profile of (radius, height) from bottom to top turned round the Y axis; `rings` resamples
    it evenly.
    """
    p = np.array(profile, float)
    if rings:
        length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(p, axis=0), axis=1))])
        at = np.linspace(0, length[-1], rings + 1)
        p = np.stack([np.interp(at, length, p[:, k]) for k in (0, 1)], 1)
    angle = np.linspace(0, 2 * np.pi, sides + 1)
    points = np.stack(
        [p[:, :1] * np.cos(angle), np.repeat(p[:, 1:], sides + 1, 1), p[:, :1] * np.sin(angle)], -1
    )
    return surface(points)


def ball(radius: float, sides: int) -> Geometry:
    """A sphere round the origin."""
    theta = np.linspace(-np.pi / 2, np.pi / 2, sides // 2 + 1)
    return turned([(radius * float(np.cos(t)), radius * float(np.sin(t))) for t in theta], sides)


def loaf(length: float, width: float, height: float, cells: int, cuts: int, seed: int) -> Geometry:
    """A loaf lying along X on y = 0:

    a rounded body, flat below, with cuts across the crust and a bumpy skin.
    """
    rng = np.random.default_rng(seed)
    theta = np.linspace(0, np.pi, cells + 1)[:, None]
    phi = np.linspace(0, 2 * np.pi, cells + 1)[None]
    power = 0.75

    def soft(x: Array) -> Array:
        return np.sign(x) * np.abs(x) ** power

    x = soft(np.cos(theta)) + 0 * phi
    r = np.sin(theta) ** power
    y, z = r * soft(np.cos(phi)), r * soft(np.sin(phi))
    bumps = sum(
        rng.uniform(0.3, 1.0)
        * np.sin(k * rng.uniform(2, 5) * x + rng.uniform(0, 6))
        * np.sin(k * rng.uniform(2, 5) * z + rng.uniform(0, 6))
        / k
        for k in range(1, 7)
    )
    groove = np.zeros_like(x)
    for c in range(cuts):
        at = -0.6 + 1.2 * (c + 0.5) / cuts
        groove -= np.exp(-(((x - at + 0.25 * z) / 0.05) ** 2)) * (y > 0.2)
    swell = 1 + 0.03 * bumps + 0.06 * groove * np.sin(theta)
    points = np.stack([x * length / 2 * swell, y * swell * height * 0.7, z * width / 2 * swell], -1)
    floor = -0.3 * height
    points[..., 1] = np.maximum(points[..., 1], floor) - floor
    return surface(points)


def moulding(length: float, cells: tuple[int, int]) -> Geometry:
    """A stuccoed ceiling moulding along X:

    a stepped profile with egg-and-dart waves, far finer than any pixel.
    """
    t = np.linspace(0, 1, cells[1] + 1)
    y = -0.16 * t + 0.012 * np.sin(9 * np.pi * t)
    z = 0.16 * (1 - t) ** 1.5 + 0.01 * np.cos(7 * np.pi * t)
    x = np.linspace(-length / 2, length / 2, cells[0] + 1)
    wave = 0.008 * np.maximum(0, np.sin(40 * x))[:, None] * np.sin(np.pi * t)[None]
    points = np.stack([np.repeat(x[:, None], len(t), 1), y[None] - wave, z[None] + wave], -1)
    return surface(points, (length, 1.0))


def tree(leaves: int, seed: int) -> tuple[Geometry, Geometry]:
    """A street tree: (trunk and branches, crown of leaf cards)."""
    rng = np.random.default_rng(seed)
    trunk = turned([(0.26, 0.0), (0.17, 1.2), (0.14, 3.0), (0.05, 5.2), (0.0, 5.6)], 48, 60)
    direction = rng.normal(size=(leaves, 3))
    direction /= np.linalg.norm(direction, axis=1, keepdims=True)
    centre = direction * (rng.uniform(0.35, 1, (leaves, 1)) ** (1 / 3)) * [1.9, 2.1, 1.9] + [
        0,
        4.6,
        0,
    ]
    a = np.cross(direction, rng.normal(size=(leaves, 3)))
    a /= np.linalg.norm(a, axis=1, keepdims=True)
    b = np.cross(direction, a)
    size = rng.uniform(0.04, 0.08, (leaves, 1))
    corners = np.stack(
        [
            centre - size * a - size * b,
            centre + size * a - size * b,
            centre + size * a + size * b,
            centre - size * a + size * b,
        ],
        1,
    )
    quad = np.array([[0, 1, 2], [0, 2, 3]])
    triangles = (np.arange(leaves)[:, None, None] * 4 + quad).reshape(-1, 3).astype(np.uint32)
    uvs = np.tile(np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32), (leaves, 1))
    crown = Geometry(
        corners.reshape(-1, 3).astype(np.float32),
        np.repeat(direction, 4, axis=0).astype(np.float32),
        uvs,
        triangles,
    )
    return trunk, crown
