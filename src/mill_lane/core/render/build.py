"""Building the bounding volume hierarchies: binned surface area heuristic (Wald 2007), two children a node.

A node is a box and a link: `link = (first, count)`.  With count 0 the children are nodes first and first + 1, else the
node is a leaf of `count` items from `first` of the ordering.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render.jit import kernel

BINS = 16
LEAF = 4
WIDEST_ONLY = 2048  # from this many items on


@kernel
def triangle_boxes(positions: Any, triangles: Any) -> Any:
    """Boxes of triangles, float32 (T, 6): minimum then maximum."""
    boxes = np.empty((triangles.shape[0], 6), np.float32)
    for i in range(triangles.shape[0]):
        a, b, c = triangles[i, 0], triangles[i, 1], triangles[i, 2]
        for k in range(3):
            x, y, z = positions[a, k], positions[b, k], positions[c, k]
            boxes[i, k] = min(x, min(y, z))
            boxes[i, 3 + k] = max(x, max(y, z))
    return boxes


@kernel
def _half_area(box: Any) -> Any:
    x, y, z = box[3] - box[0], box[4] - box[1], box[5] - box[2]
    return x * y + y * z + z * x


@kernel
def _grow(box: Any, other: Any) -> None:
    for k in range(3):
        box[k] = min(box[k], other[k])
        box[3 + k] = max(box[3 + k], other[3 + k])


@kernel
def _empty(box: Any) -> None:
    for k in range(3):
        box[k] = np.float32(1e30)
        box[3 + k] = np.float32(-1e30)


@kernel
def _split(boxes: Any, order: Any, first: int, last: int, bins: Any, counts: Any, right: Any, around: Any) -> int:
    """Partition order[first:last] in place by the cheapest bin border; returns where the second half starts."""
    big = np.float32(1e30)
    lx, ly, lz, hx, hy, hz = big, big, big, -big, -big, -big
    for i in range(np.uint64(first), np.uint64(last)):
        b = order[i]
        x, y, z = boxes[b, 0] + boxes[b, 3], boxes[b, 1] + boxes[b, 4], boxes[b, 2] + boxes[b, 5]  # twice the centre
        lx, ly, lz = min(lx, x), min(ly, y), min(lz, z)
        hx, hy, hz = max(hx, x), max(hy, y), max(hz, z)
    low, high = (lx, ly, lz), (hx, hy, hz)
    best, axis, border = np.float32(3e38), -1, 0
    widest = max(hx - lx, max(hy - ly, hz - lz))
    for k in range(3):
        extent = high[k] - low[k]
        # With many items the widest axis is nearly always the best one; looking at it alone halves the time.
        if extent <= 0 or (last - first > WIDEST_ONLY and extent < widest):
            continue
        start, scale, up = low[k], np.float32(BINS * 0.9999) / extent, np.uint64(k)
        for j in range(BINS):
            _empty(bins[j])
            counts[j] = 0
        for i in range(np.uint64(first), np.uint64(last)):
            b = order[i]
            j = np.uint64((boxes[b, up] + boxes[b, up + np.uint64(3)] - start) * scale)
            counts[j] += 1
            bins[j, 0], bins[j, 3] = min(bins[j, 0], boxes[b, 0]), max(bins[j, 3], boxes[b, 3])
            bins[j, 1], bins[j, 4] = min(bins[j, 1], boxes[b, 1]), max(bins[j, 4], boxes[b, 4])
            bins[j, 2], bins[j, 5] = min(bins[j, 2], boxes[b, 2]), max(bins[j, 5], boxes[b, 5])
        _empty(around)
        n = 0
        for j in range(BINS - 1, 0, -1):
            _grow(around, bins[j])
            n += counts[j]
            right[j] = _half_area(around) * n if n > 0 else np.float32(-1)
        _empty(around)
        n = 0
        for j in range(1, BINS):
            _grow(around, bins[j - 1])
            n += counts[j - 1]
            if n > 0 and right[j] >= 0:
                cost = _half_area(around) * n + right[j]
                if cost < best:
                    best, axis, border = cost, k, j
    if axis < 0:
        return (first + last) // 2
    start, scale = low[axis], np.float32(BINS * 0.9999) / (high[axis] - low[axis])
    up = np.uint64(axis)
    i, j = first, last - 1
    while True:
        while i <= j and int((boxes[order[i], up] + boxes[order[i], up + np.uint64(3)] - start) * scale) < border:
            i += 1
        while i <= j and int((boxes[order[j], up] + boxes[order[j], up + np.uint64(3)] - start) * scale) >= border:
            j -= 1
        if i >= j:
            break
        order[i], order[j] = order[j], order[i]
        i += 1
        j -= 1
    return i


@kernel
def build(boxes: Any, leaf: int) -> Any:
    """Build over boxes float32 (N, 6), N > 0.

    Returns (order uint32 (N,), node boxes float32 (M, 6), links uint32 (M, 2)), parents before their children.
    """
    n = boxes.shape[0]
    order = np.arange(n).astype(np.uint32)
    node_boxes = np.empty((2 * n, 6), np.float32)
    links = np.empty((2 * n, 2), np.uint32)
    bins = np.empty((BINS, 6), np.float32)
    counts = np.empty(BINS, np.int64)
    right = np.empty(BINS, np.float32)
    around = np.empty(6, np.float32)
    # Depth is not bounded by log2(n) for uneven splits; each level leaves one entry on the stack.
    stack = np.empty((4096, 3), np.int64)
    stack[0, 0], stack[0, 1], stack[0, 2] = 0, 0, n
    top, used = 1, 1
    while top > 0:
        top -= 1
        node, first, last = stack[top, 0], stack[top, 1], stack[top, 2]
        big = np.float32(1e30)
        lx, ly, lz, hx, hy, hz = big, big, big, -big, -big, -big
        for i in range(np.uint64(first), np.uint64(last)):
            b = order[i]
            lx, ly, lz = min(lx, boxes[b, 0]), min(ly, boxes[b, 1]), min(lz, boxes[b, 2])
            hx, hy, hz = max(hx, boxes[b, 3]), max(hy, boxes[b, 4]), max(hz, boxes[b, 5])
        node_boxes[node, 0], node_boxes[node, 1], node_boxes[node, 2] = lx, ly, lz
        node_boxes[node, 3], node_boxes[node, 4], node_boxes[node, 5] = hx, hy, hz
        if last - first <= leaf:
            links[node, 0], links[node, 1] = first, last - first
            continue
        middle = (first + last) // 2
        if top < 64:  # the traversal's stack holds 64 a level; deeper trees are halved by count
            middle = _split(boxes, order, first, last, bins, counts, right, around)
        links[node, 0], links[node, 1] = used, 0
        stack[top, 0], stack[top, 1], stack[top, 2] = used + 1, middle, last
        stack[top + 1, 0], stack[top + 1, 1], stack[top + 1, 2] = used, first, middle
        top += 2
        used += 2
    return order, node_boxes[:used].copy(), links[:used].copy()


def build_mesh(
    positions: NDArray[np.float32], triangles: NDArray[np.uint32]
) -> tuple[NDArray[np.uint32], NDArray[np.float32], NDArray[np.uint32]]:
    """The hierarchy of one mesh: (order of triangles, node boxes, links)."""
    result: tuple[NDArray[np.uint32], NDArray[np.float32], NDArray[np.uint32]] = build(triangle_boxes(positions, triangles), LEAF)
    return result
