"""Names and places of what a stage holds."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.model import Channel


def instead_of(kind: str) -> str:
    """The way out for what is not drawn."""
    if "Curves" in kind or kind == "NurbsPatch":
        return "turn them into meshes before exporting, if they are to be seen"
    if kind == "Points":
        return "give them a shape with a point instancer, if they are to be seen"
    return "export them as meshes, if they are to be seen"


def name_of(prim: Any) -> str:
    """What an object is called: by the instance it stands in, where it is one of several of
    a kind.
    """
    at = prim
    while at.IsInstanceProxy():
        at = at.GetParent()
    return str(at.GetName())


def upright(m: NDArray[np.float64]) -> NDArray[np.float64]:
    """A matrix without its scale, for things that only look in a direction."""
    out = np.eye(4)
    u, _, v = np.linalg.svd(m[:3, :3])
    turn = u @ v
    out[:3, :3], out[:3, 3] = (
        (turn if np.linalg.det(turn) > 0 else u @ np.diag([1, 1, -1.0]) @ v),
        m[:3, 3],
    )
    return out


def decomposed(m: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Rotation (x, y, z, w) and scale of a matrix; a shear is lost."""
    sized = np.linalg.norm(m[:3, :3], axis=0)
    r = m[:3, :3] / np.maximum(sized, 1e-30)
    if np.linalg.det(r) < 0:
        sized[0], r[:, 0] = -sized[0], -r[:, 0]
    u, _, v = np.linalg.svd(r)
    r = u @ v
    k = np.array(
        [
            [r[0, 0] - r[1, 1] - r[2, 2], 0, 0, 0],
            [r[0, 1] + r[1, 0], r[1, 1] - r[0, 0] - r[2, 2], 0, 0],
            [r[0, 2] + r[2, 0], r[1, 2] + r[2, 1], r[2, 2] - r[0, 0] - r[1, 1], 0],
            [r[2, 1] - r[1, 2], r[0, 2] - r[2, 0], r[1, 0] - r[0, 1], r[0, 0] + r[1, 1] + r[2, 2]],
        ]
    )
    # Bar-Itzhack 2000: the quaternion is the eigenvector of the largest eigenvalue.
    _, vectors = np.linalg.eigh(k + np.tril(k, -1).T)
    return vectors[:, -1], sized


def moving(worlds: list[NDArray[np.float64]], rate: float) -> dict[str, Any]:
    """Where something stands frame by frame, as the fields of a node with keys."""
    times = np.arange(len(worlds)) / rate
    moved = np.array([w[:3, 3] for w in worlds])
    turned, sized = np.zeros((len(worlds), 4)), np.zeros((len(worlds), 3))
    for i, w in enumerate(worlds):
        turned[i], sized[i] = decomposed(w)
        if i and turned[i] @ turned[i - 1] < 0:
            turned[i] = -turned[i]
    channels = (
        Channel("translation", "LINEAR", times, moved),
        Channel("rotation", "LINEAR", times, turned),
        Channel("scale", "LINEAR", times, sized),
    )
    return {
        "translation": tuple(moved[0]),
        "rotation": tuple(turned[0]),
        "scale": tuple(sized[0]),
        "channels": channels,
    }
