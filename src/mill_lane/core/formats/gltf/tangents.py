"""Tangents for meshes whose materials have a normal texture."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.model import Geometry


def tangents(g: Geometry) -> NDArray[np.float32]:
    """Tangents along rising U with the sign of the bitangent, float32 (V, 4) (glTF 2.0, section
    3.7.2.1).

    Our renderer works them out at each hit; other programs differ unless the file says them.
    """
    assert g.uvs is not None
    p, uv = g.positions.astype(float)[g.triangles], g.uvs.astype(float)[g.triangles]
    e1, e2, d1, d2 = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0], uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    det = d1[:, 0] * d2[:, 1] - d2[:, 0] * d1[:, 1]
    sign = np.where(det < 0, -1.0, 1.0)
    along = (e1 * d2[:, 1:] - e2 * d1[:, 1:]) * sign[:, None]
    total, hand = np.zeros((len(g.positions), 3)), np.zeros(len(g.positions))
    for k in range(3):
        np.add.at(total, g.triangles[:, k], along)
        np.add.at(hand, g.triangles[:, k], sign)
    n = g.normals.astype(float)
    total -= n * (total * n).sum(1, keepdims=True)
    # Where a vertex has no layout of its own, any direction across the normal will do.
    spare = np.cross(n, np.where(np.abs(n[:, :1]) < 0.9, [[1.0, 0, 0]], [[0, 1.0, 0]]))
    flat = np.linalg.norm(total, axis=1) < 1e-12
    total[flat] = spare[flat]
    total /= np.linalg.norm(total, axis=1, keepdims=True)
    # V runs down the picture, so a layout that is not mirrored has a bitangent against n x t.
    w = np.where(hand < 0, 1.0, -1.0)
    return np.concatenate([total, w[:, None]], 1).astype(np.float32)
