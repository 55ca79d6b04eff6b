"""Rays as a path tracer sends them, for the benches."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render.shooting import Shooter
from mill_lane.core.render.world import World

Floats = NDArray[np.float32]


def unit(v: NDArray[Any]) -> NDArray[Any]:
    return v / np.linalg.norm(v, axis=1, keepdims=True)


def camera_rays(
    width: int = 1024, height: int = 576
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Rays of a camera in a corner of the hall, in leaves of 8 x 8 pixels as tiles give them."""
    eye = np.array([-4.6, 2.9, -3.6])
    ahead = unit(np.array([[5.6, -1.9, 4.6]]))[0]
    right = unit(np.cross(ahead, [0, 1, 0])[None])[0]
    up = np.cross(right, ahead)
    y, x = np.meshgrid(np.linspace(0.56, -0.56, height), np.linspace(-1, 1, width), indexing="ij")
    order = (
        np.arange(width * height)
        .reshape(height // 8, 8, width // 8, 8)
        .transpose(0, 2, 1, 3)
        .ravel()
    )
    d = unit((ahead + x[..., None] * right + y[..., None] * up).reshape(-1, 3)[order])
    return np.broadcast_to(eye, d.shape).copy(), d


def second_rays(
    world: World,
    positions: Floats,
    triangles: NDArray[np.uint32],
    o: NDArray[np.float64],
    d: NDArray[np.float64],
) -> dict[str, tuple[Any, Any, Any]]:
    """From what camera rays hit:

    one diffuse bounce each, and one shadow ray to a lamp under the ceiling.
    """
    kinds = path_rays(world, positions, triangles, o, d, 1)
    return {"primary": (o, d, 1e30), "diffuse": kinds[0], "shadow": kinds[1]}


def path_rays(
    world: World,
    positions: Floats,
    triangles: NDArray[np.uint32],
    o: NDArray[np.float64],
    d: NDArray[np.float64],
    bounces: int,
) -> tuple[tuple[Any, Any, Any], tuple[Any, Any, Any]]:
    """The rays of whole paths of matt surfaces:

    (all diffuse bounces, all shadow rays that leave above the surface).

    They stand in the order in which a tracer follows them: pixel by pixel, bounce after bounce.
    """
    rng = np.random.default_rng(0)
    number = np.arange(len(o))
    turned, shut = [], []
    for depth in range(bounces):
        first = Shooter(world, o, d, 1e30)
        first.closest()
        hit = first.slots >= 0
        c = positions[triangles[first.numbers[hit]]].astype(float)
        n = unit(np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0]) + 1e-30)
        n *= -np.sign((n * d[hit]).sum(1, keepdims=True))
        p = o[hit] + first.t[hit, None] * d[hit] + n * 1e-4
        number = number[hit]
        lamp = (
            np.stack(
                [
                    rng.uniform(-1.5, 1.5, len(p)),
                    np.full(len(p), 3.95),
                    rng.uniform(-1.5, 1.5, len(p)),
                ],
                1,
            )
            - p
        )
        far = np.linalg.norm(lamp, axis=1)
        lamp /= far[:, None]
        seen = (lamp * n).sum(1) > 0
        shut.append((number[seen] * bounces + depth, p[seen], lamp[seen], far[seen] * 0.999))
        o, d = p, unit(unit(rng.normal(size=p.shape)) + n * 1.0001)
        turned.append((number * bounces + depth, o, d, np.full(len(o), 1e30)))
    return _in_order(turned), _in_order(shut)


def _in_order(pieces: list[tuple[Any, Any, Any, Any]]) -> tuple[Any, Any, Any]:
    order = np.argsort(np.concatenate([x[0] for x in pieces]), kind="stable")
    return tuple(np.concatenate([x[i] for x in pieces])[order] for i in (1, 2, 3))
