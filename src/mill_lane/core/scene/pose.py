"""Where every node stands at a time (glTF 2.0, sections 3.5 and 3.11)."""

from __future__ import annotations

import numpy as np

from mill_lane.core.scene.model import F64, Channel, Node, Scene


def quaternion_matrix(q: F64) -> F64:
    """The 3x3 rotation of a quaternion (x, y, z, w); it is normalised first."""
    x, y, z, w = q / (np.linalg.norm(q) or 1.0)
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )


def slerp(a: F64, b: F64, t: float) -> F64:
    """Interpolate spherically by the shorter way.

    Parameters
    ----------
    a, b : array of float64, (4,)
        Unit quaternions, x, y, z, w.
    t : float
        0 to 1.

    References
    ----------
    Khronos Group, glTF 2.0 specification, appendix C.4.
    """
    d = float(a @ b)
    if d < 0:
        b, d = -b, -d
    if d > 0.9995:
        q = a + t * (b - a)
    else:
        angle = np.arccos(d)
        q = (np.sin((1 - t) * angle) * a + np.sin(t * angle) * b) / np.sin(angle)
    return q / np.linalg.norm(q)


def sample(channel: Channel, time: float) -> F64:
    """The value of a channel at a time in seconds; before and after its keys it holds (glTF 2.0,
    appendix C).
    """
    times, values = channel.times, channel.values
    cubic = channel.interpolation == "CUBICSPLINE"
    knots = values[1::3] if cubic else values
    if time <= times[0]:
        return knots[0]
    if time >= times[-1]:
        return knots[-1]
    k = int(np.searchsorted(times, time, side="right")) - 1
    if channel.interpolation == "STEP":
        return knots[k]
    span = times[k + 1] - times[k]
    t = float((time - times[k]) / span)
    if cubic:
        leaving, arriving = values[3 * k + 2], values[3 * k + 3]
        t2, t3 = t * t, t * t * t
        v = (
            (2 * t3 - 3 * t2 + 1) * knots[k]
            + span * (t3 - 2 * t2 + t) * leaving
            + (-2 * t3 + 3 * t2) * knots[k + 1]
            + span * (t3 - t2) * arriving
        )
        return v / np.linalg.norm(v) if channel.path == "rotation" else v
    if channel.path == "rotation":
        return slerp(knots[k], knots[k + 1], t)
    return (1 - t) * knots[k] + t * knots[k + 1]


def local_matrix(node: Node, time: float) -> F64:
    """The node's own 4x4 matrix, float64, at a time."""
    if node.matrix is not None:
        return node.matrix
    values: dict[str, F64] = {
        "translation": np.asarray(node.translation, float),
        "rotation": np.asarray(node.rotation, float),
        "scale": np.asarray(node.scale, float),
    }
    for channel in node.channels:
        values[channel.path] = sample(channel, time)
    m = np.eye(4)
    m[:3, :3] = quaternion_matrix(values["rotation"]) * values["scale"]
    m[:3, 3] = values["translation"]
    return m


def _rotations(q: F64) -> F64:
    """`quaternion_matrix` for many at once: (N, 4) to (N, 3, 3)."""
    length = np.linalg.norm(q, axis=1, keepdims=True)
    x, y, z, w = (q / np.where(length > 0, length, 1.0)).T
    rows = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ]
    return np.stack([np.stack(row, 1) for row in rows], 1)


def local_matrices(scene: Scene, time: float) -> F64:
    """All nodes' own matrices at a time, float64 (nodes, 4, 4)."""
    nodes = scene.nodes
    out = np.zeros((len(nodes), 4, 4))
    out[:, 3, 3] = 1.0
    if not nodes:
        return out
    turned = _rotations(np.array([n.rotation for n in nodes], float))
    out[:, :3, :3] = turned * np.array([n.scale for n in nodes], float)[:, None]
    out[:, :3, 3] = np.array([n.translation for n in nodes], float)
    for i, n in enumerate(nodes):
        if n.matrix is not None or n.channels:
            out[i] = local_matrix(n, time)
    return out


def world_matrices(scene: Scene, time: float) -> F64:
    """All nodes' matrices in world space, float64 (nodes, 4, 4), at a time in seconds.

    Parents may stand after their children in the list; a cycle was refused by the reader.
    """
    out = local_matrices(scene, time)
    below: dict[int, list[int]] = {}
    for i, n in enumerate(scene.nodes):
        if n.parent >= 0:
            below.setdefault(n.parent, []).append(i)
    # Level by level: all whose parents are done at once.
    level = [i for i in below if scene.nodes[i].parent < 0]
    while level:
        pairs = [(i, child) for i in level for child in below.get(i, ())]
        parents, children = (
            (np.array(x, np.int64) for x in zip(*pairs, strict=True)) if pairs else (None, None)
        )
        if parents is not None:
            out[children] = out[parents] @ out[children]
        level = [child for _, child in pairs if child in below]
    return out


def node_matrix(scene: Scene, node: int, time: float) -> F64:
    """One node's matrix in world space, (4, 4): only what stands above it is looked at."""
    m = local_matrix(scene.nodes[node], time)
    at = scene.nodes[node].parent
    while at >= 0:
        m = local_matrix(scene.nodes[at], time) @ m
        at = scene.nodes[at].parent
    return m


def world_box(matrix: F64, lo: F64, hi: F64) -> tuple[F64, F64]:
    """Find the axis-aligned box round a transformed box.

    Parameters
    ----------
    matrix : array of float64, (4, 4)
    lo, hi : array of float64, (3,)

    Returns
    -------
    lo, hi : array of float64, (3,)
    """
    centre = matrix[:3, :3] @ ((lo + hi) / 2) + matrix[:3, 3]
    half = np.abs(matrix[:3, :3]) @ ((hi - lo) / 2)
    return centre - half, centre + half
