"""Building the hierarchies:

binned surface area heuristic (Wald 2007), then eight children to a node (`wide_nodes`).

A binary tree over records is built first; a record and a binary node are eight floats: the box as
minimum and negated maximum, so that growing one is a single vector minimum, and two integers.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render.jit import fill, grow, grow_by_centre, kernel, lean, linked, swap
from mill_lane.core.render.pointers import as_i32, f32_at, u32_at
from mill_lane.core.render.wide_nodes import LEAF, NODE, ROOM, draw_together, half_area

F = np.float32
BIG = F(1e30)
BINS = 16
LEAF_TRIANGLES = 8
# Scratch of a split: bins of three axes, box of the centres, right areas, the box swept up, and
# counts.
_CENTRE = 3 * BINS * 8
_RIGHT = _CENTRE + 8
_SWEPT = _RIGHT + BINS
_COUNTS = _SWEPT + 8
SCRATCH = _COUNTS + 3 * BINS
SERIAL = 4096  # below this many items threads do not pay
TASKS = 24


def aligned(count: int) -> NDArray[np.float32]:
    """Uninitialised floats that start on a cache line (64 bytes)."""
    raw = np.empty(count + 16, np.float32)
    start = (-(raw.ctypes.data // 4)) % 16
    return raw[start : start + count]


@lean
def make_records(positions: int, triangles: int, records: int, first: int, last: int) -> None:
    """Records of triangles first to last: box and number."""
    p, t, out = f32_at(positions), u32_at(triangles), f32_at(records)
    numbers = as_i32(out)
    for i in range(first, last):
        a, b, c = np.int64(t[3 * i]) * 3, np.int64(t[3 * i + 1]) * 3, np.int64(t[3 * i + 2]) * 3
        for k in range(3):
            x, y, z = p[a + k], p[b + k], p[c + k]
            out[8 * i + k] = min(x, min(y, z))
            out[8 * i + 3 + k] = -max(x, max(y, z))
        numbers[8 * i + 6], numbers[8 * i + 7] = i, 0


@linked
def _split(p: Any, first: int, last: int, leaf: int, s: Any) -> int:
    """Partition records first to last by the cheapest bin border; returns where the second half
    starts.

    The cost of a side is its area times the leaves that its triangles fill.
    """
    counts = as_i32(s)
    bins = BINS if last - first > 48 else BINS // 2
    fill(s, _CENTRE, BIG)
    for i in range(first, last):
        grow_by_centre(s, _CENTRE, p, 8 * i)
    lx, ly, lz = s[_CENTRE], s[_CENTRE + 1], s[_CENTRE + 2]
    ex, ey, ez = -s[_CENTRE + 3] - lx, -s[_CENTRE + 4] - ly, -s[_CENTRE + 5] - lz
    if max(ex, max(ey, ez)) <= F(0):
        return (first + last) // 2
    top = F(bins) * F(0.9999)
    sx = top / max(ex, F(1e-20)) if ex > 0 else F(0)
    sy = top / max(ey, F(1e-20)) if ey > 0 else F(0)
    sz = top / max(ez, F(1e-20)) if ez > 0 else F(0)
    for axis in range(3):
        for k in range(bins):
            fill(s, (axis * BINS + k) * 8, BIG)
            counts[_COUNTS + axis * BINS + k] = 0
    for i in range(first, last):
        j = 8 * i
        bx = np.int64(np.int32((p[j] - p[j + 3] - lx) * sx))
        by = BINS + np.int64(np.int32((p[j + 1] - p[j + 4] - ly) * sy))
        bz = 2 * BINS + np.int64(np.int32((p[j + 2] - p[j + 5] - lz) * sz))
        grow(s, 8 * bx, p, j)
        grow(s, 8 * by, p, j)
        grow(s, 8 * bz, p, j)
        counts[_COUNTS + bx] += 1
        counts[_COUNTS + by] += 1
        counts[_COUNTS + bz] += 1
    best, best_axis, border = F(3e38), 0, 0
    for axis in range(3):
        fill(s, _SWEPT, BIG)
        n = 0
        for k in range(bins - 1, 0, -1):
            grow(s, _SWEPT, s, (axis * BINS + k) * 8)
            n += np.int64(counts[_COUNTS + axis * BINS + k])
            s[_RIGHT + k] = half_area(s, _SWEPT) * F((n + leaf - 1) // leaf) if n > 0 else F(-1)
        fill(s, _SWEPT, BIG)
        n = 0
        for k in range(1, bins):
            grow(s, _SWEPT, s, (axis * BINS + k - 1) * 8)
            n += np.int64(counts[_COUNTS + axis * BINS + k - 1])
            if n > 0 and s[_RIGHT + k] >= 0:
                cost = half_area(s, _SWEPT) * F((n + leaf - 1) // leaf) + s[_RIGHT + k]
                if cost < best:
                    best, best_axis, border = cost, axis, k
    if border == 0:
        return (first + last) // 2
    low = lx if best_axis == 0 else (ly if best_axis == 1 else lz)
    scale = sx if best_axis == 0 else (sy if best_axis == 1 else sz)
    i, j = first, last - 1
    while True:
        while (
            i <= j
            and np.int32((p[8 * i + best_axis] - p[8 * i + 3 + best_axis] - low) * scale) < border
        ):
            i += 1
        while (
            i <= j
            and np.int32((p[8 * j + best_axis] - p[8 * j + 3 + best_axis] - low) * scale) >= border
        ):
            j -= 1
        if i >= j:
            break
        swap(p, 8 * i, 8 * j)
        i += 1
        j -= 1
    return i


@kernel
def build_binary(
    records: int, nodes: int, root: int, first: int, last: int, free: int, leaf: int, stop: int
) -> int:
    """The binary tree below `root` over records first to last; new nodes are taken from `free` on.

    Ranges of at most max(leaf, stop) stay leaves.  Returns the next free node.
    """
    p, q = f32_at(records), f32_at(nodes)
    links = as_i32(q)
    scratch = np.empty(SCRATCH, np.float32)
    s = f32_at(scratch.ctypes.data)
    # Each level leaves one entry on the stack; trees deeper than that are halved by count from
    # there on.
    stack = np.empty((512, 3), np.int64)
    stack[0, 0], stack[0, 1], stack[0, 2] = root, first, last
    top, limit = 1, max(leaf, stop)
    while top > 0:
        top -= 1
        node, b, e = stack[top, 0], stack[top, 1], stack[top, 2]
        fill(q, 8 * node, BIG)
        for i in range(b, e):
            grow(q, 8 * node, p, 8 * i)
        if e - b <= limit:
            links[8 * node + 6], links[8 * node + 7] = b, e - b
            continue
        middle = _split(p, b, e, leaf, s) if top < 60 else (b + e) // 2
        links[8 * node + 6], links[8 * node + 7] = free, 0
        stack[top, 0], stack[top, 1], stack[top, 2] = free, b, middle
        stack[top + 1, 0], stack[top + 1, 1], stack[top + 1, 2] = free + 1, middle, e
        top += 2
        free += 2
    # Memory is given back after its array's last use, and of an address the compiler knows nothing.
    return free + scratch.size - SCRATCH


def _binary_tree(
    records: NDArray[np.float32], count: int, leaf: int, threads: int
) -> NDArray[np.float32]:
    """A binary tree over records, the lower parts shared out among threads."""
    base = 4096
    nodes = aligned((base + 2 * count + 8) * 8)
    at, data = nodes.ctypes.data, records.ctypes.data
    if threads < 2 or count < SERIAL:
        build_binary(data, at, 0, 0, count, 1, leaf, 0)
        return nodes
    free = build_binary(data, at, 0, 0, count, 1, leaf, max(count // TASKS, leaf))
    table = nodes.view(np.int32).reshape(-1, 8)
    tasks = np.flatnonzero(table[:free, 7] > 0)
    tasks = tasks[np.argsort(-table[tasks, 7], kind="stable")]

    def below(node: int) -> None:
        first, size = int(table[node, 6]), int(table[node, 7])
        # A range of n records needs fewer than 2 n nodes, so that no two tasks meet.
        build_binary(data, at, node, first, first + size, base + 2 * first, leaf, 0)

    _share(below, [int(t) for t in tasks], threads)
    return nodes


def _share(work: Callable[[int], None], items: list[int], threads: int) -> None:
    if threads < 2 or len(items) < 2:
        for item in items:
            work(item)
        return
    with ThreadPoolExecutor(threads) as pool:
        list(pool.map(work, items))


def _drawn_together(
    records: NDArray[np.float32],
    binary: NDArray[np.float32],
    count: int,
    positions: NDArray[np.float32] | None,
    triangles: NDArray[np.uint32] | None,
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    # Every wide node but the root has at least two children unless it is a lone leaf: n + 1 nodes
    # at most.
    wide = aligned((count + 1) * NODE)
    leaves = aligned(count * LEAF) if positions is not None else aligned(0)
    counts = np.zeros(ROOM, np.int64)
    draw_together(
        positions.ctypes.data if positions is not None else 0,
        triangles.ctypes.data if triangles is not None else 0,
        records.ctypes.data,
        binary.ctypes.data,
        wide.ctypes.data,
        leaves.ctypes.data if positions is not None else 0,
        counts.ctypes.data,
    )
    nodes, used = int(counts[0]), int(counts[1])
    return wide[: nodes * NODE].reshape(-1, NODE), leaves[: used * LEAF].reshape(-1, LEAF)


def build_mesh(
    positions: NDArray[np.float32], triangles: NDArray[np.uint32], threads: int = 1
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """The hierarchy of one mesh: wide nodes float32 (N, 64) and leaves float32 (B, 80).

    positions : (V, 3).  triangles : (T, 3), T > 0.  The arrays returned are views of larger,
    untouched memory: copy them to where they are kept.  The result does not depend on the number of
    threads.
    """
    positions, triangles = np.ascontiguousarray(positions), np.ascontiguousarray(triangles)
    n = len(triangles)
    records = aligned(n * 8)
    pieces = threads if n >= SERIAL else 1
    edges = [n * i // pieces for i in range(pieces + 1)]
    _share(
        lambda i: make_records(
            positions.ctypes.data,
            triangles.ctypes.data,
            records.ctypes.data,
            edges[i],
            edges[i + 1],
        ),
        list(range(pieces)),
        threads,
    )
    return _drawn_together(
        records, _binary_tree(records, n, LEAF_TRIANGLES, threads), n, positions, triangles
    )


def build_boxes(
    low: NDArray[np.float64], high: NDArray[np.float64], numbers: NDArray[np.int64] | None = None
) -> NDArray[np.float32]:
    """A hierarchy over N > 0 boxes (N, 3) to (N, 3):

    wide nodes whose links below 0 are complements of the boxes' numbers, 0 to N - 1 if none are
    given.

    The boxes are rounded outwards, so that float32 loses nothing.
    """
    n = len(low)
    records = aligned(n * 8)
    table = records.reshape(-1, 8)
    table[:, :3] = np.nextafter(low.astype(np.float32), np.float32(-np.inf))
    table[:, 3:6] = -np.nextafter(high.astype(np.float32), np.float32(np.inf))
    table.view(np.int32)[:, 6:] = np.stack(
        [np.arange(n) if numbers is None else numbers, np.zeros(n, int)], 1
    )
    wide, _ = _drawn_together(records, _binary_tree(records, n, 1, 1), n, None, None)
    kept = aligned(wide.size).reshape(wide.shape)
    kept[:] = wide
    return kept
