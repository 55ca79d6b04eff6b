"""From a binary tree to nodes of eight children, and blocks of eight triangles.

Which binary nodes become the children of a wide one is chosen so that the boxes which are left have
the least area together, and with it a ray the fewest nodes to test: for each binary node, what it
costs as one to seven children of somebody, from the leaves up (Ylitie, Karras and Laine 2017,
"Efficient incoherent ray traversal on GPUs through compressed wide BVHs", from memory).

Wide node (64 floats, 256 bytes): per axis the eight minima and the eight maxima, then eight links.
A link from 0 on is a node of the same mesh, below 0 it is the complement of a block.  An empty
place has a box that no ray enters. Block (80 floats, 320 bytes): x, y, z of the first corners of
eight triangles, of the second, of the third, then the triangles' numbers; an empty place has the
number -1 and no area.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.render.jit import fill, lean, linked
from mill_lane.core.render.pointers import as_i32, f32_at, i64_at, u32_at

F = np.float32
BIG = F(1e30)
NODE, LEAF = 64, 80  # floats
LINKS, NUMBERS = 48, 72  # where in a node its links stand, in a block its triangles' numbers
WIDTH = 8
DEPTH = 512  # of binary trees, at most
# Scratch, in numbers of eight bytes: two counts; wide nodes to be filled, with their binary ones;
# the children of one; the way down a binary tree; what its parts cost, eight float32 each.
_FILLED = 2
_CHILDREN = _FILLED + 2 * 2048
_WAY = _CHILDREN + 2 * WIDTH
_COSTS = _WAY + 2 * DEPTH
ROOM = _COSTS + 4 * DEPTH


@linked
def half_area(p: Any, i: int) -> Any:
    """Half the surface of the box at p[i:i+6], minimum and negated maximum."""
    x, y, z = -(p[i + 3] + p[i]), -(p[i + 4] + p[i + 1]), -(p[i + 5] + p[i + 2])
    return x * y + y * z + z * x


@linked
def _cheapest(costs: Any, left: int, right: int, n: int) -> Any:
    """What two nodes cost as n children together, and how many of them the left one is then."""
    best, k = costs[left + 1] + costs[right + n - 1], np.int64(1)
    for i in range(2, n):
        cost = costs[left + i] + costs[right + n - i]
        if cost < best:
            best, k = cost, np.int64(i)
    return best, k


@linked
def _cost_of_parent(costs: Any, left: int, right: int, area: Any) -> int:
    """The costs of a node as 1 to 7 children, in the place of its left child's; three bits for each
    number n: how many of them the left child is, 0 where n - 1 are no dearer.
    """
    below, k = _cheapest(costs, left, right, WIDTH)
    choices = k << (3 * WIDTH)
    for n in range(WIDTH - 1, 1, -1):  # what is still read is not yet overwritten
        costs[left + n], k = _cheapest(costs, left, right, n)
        choices |= k << (3 * n)
    costs[left + 1] = area + below
    for n in range(2, WIDTH):
        if costs[left + n - 1] <= costs[left + n]:
            costs[left + n] = costs[left + n - 1]
            choices &= ~(7 << (3 * n))
    return choices


@linked
def _choose(q: Any, links: Any, way: Any, costs: Any) -> None:
    """Write the choices for each inner binary node in the place of its count, as 0 - choices."""
    way[0], way[1] = 0, 0
    top, known = 1, 0
    while top > 0:
        node, state = way[2 * top - 2], way[2 * top - 1]
        if links[8 * node + 7] > 0:
            area = half_area(q, 8 * node)
            for n in range(WIDTH):
                costs[8 * known + n] = area
            known += 1
            top -= 1
        elif state < 2:
            way[2 * top - 1] = state + 1
            way[2 * top], way[2 * top + 1] = np.int64(links[8 * node + 6]) + state, 0
            top += 1
        else:
            known -= 1
            choices = _cost_of_parent(costs, 8 * known - 8, 8 * known, half_area(q, 8 * node))
            links[8 * node + 7] = np.int32(-choices)
            top -= 1


@linked
def _gather_children(links: Any, node: int, children: Any) -> int:
    """The up to eight binary nodes that become the children of a wide one: pairs of node and 1."""
    children[0], children[1] = node, WIDTH
    done, top = 0, 1
    while done < top:
        here, n = children[2 * done], children[2 * done + 1]
        choices = -np.int64(links[8 * here + 7])
        if choices < 0 or n == 1:
            done += 1
            continue
        k = (choices >> (3 * n)) & 7
        if k == 0:
            children[2 * done + 1] = n - 1
            continue
        left = np.int64(links[8 * here + 6])
        children[2 * done], children[2 * done + 1] = left, k
        children[2 * top], children[2 * top + 1] = left + 1, n - k
        top += 1
    return top


@linked
def _put_box(out: Any, base: int, j: int, q: Any, node: int) -> None:
    for k in range(3):
        out[base + 16 * k + j], out[base + 16 * k + 8 + j] = q[8 * node + k], -q[8 * node + 3 + k]


@linked
def _put_nothing(out: Any, base: int, j: int) -> None:
    for k in range(3):
        out[base + 16 * k + j], out[base + 16 * k + 8 + j] = BIG, -BIG
    as_i32(out)[base + LINKS + j] = 0


@lean
def draw_together(
    positions: int, triangles: int, records: int, binary: int, wide: int, leaves: int, counts: int
) -> None:
    """From the binary tree to wide nodes and leaves; how many there are goes to counts[0] and
    counts[1] (int64, ROOM of them).

    With `leaves` 0 the leaves hold one record each and their links are the complements of its
    number.
    """
    rec, q, out = as_i32(f32_at(records)), f32_at(binary), f32_at(wide)
    links, out_links = as_i32(q), as_i32(out)
    count = i64_at(counts)
    stack, children = i64_at(counts + 8 * _FILLED), i64_at(counts + 8 * _CHILDREN)
    _choose(q, links, i64_at(counts + 8 * _WAY), f32_at(counts + 8 * _COSTS))
    nodes, used = 1, 0
    stack[0], stack[1] = 0, 0
    top = 1
    while top > 0:
        top -= 1
        node, base = stack[2 * top], stack[2 * top + 1] * NODE
        n = _gather_children(links, node, children)
        fill(out, base + LINKS + 8, F(0))  # what is left of the cache line
        for j in range(8):
            if j >= n:
                _put_nothing(out, base, j)
                continue
            child = children[2 * j]
            _put_box(out, base, j, q, child)
            size, first = np.int64(links[8 * child + 7]), np.int64(links[8 * child + 6])
            if size < 0:
                out_links[base + LINKS + j] = nodes
                stack[2 * top], stack[2 * top + 1] = child, nodes
                top += 1
                nodes += 1
            elif leaves == 0:
                out_links[base + LINKS + j] = ~rec[8 * first + 6]
            else:
                _put_block(positions, triangles, rec, first, size, f32_at(leaves), used * LEAF)
                out_links[base + LINKS + j] = ~np.int32(used)
                used += 1
    count[0], count[1] = nodes, used


@linked
def _put_block(
    positions: int, triangles: int, rec: Any, first: int, size: int, out: Any, base: int
) -> None:
    p, t, numbers = f32_at(positions), u32_at(triangles), as_i32(out)
    for j in range(8):
        if j < size:
            number = np.int64(rec[8 * (first + j) + 6])
            for corner in range(3):
                v = np.int64(t[3 * number + corner]) * 3
                for k in range(3):
                    out[base + (3 * corner + k) * 8 + j] = p[v + k]
            numbers[base + NUMBERS + j] = number
        else:
            for k in range(9):
                out[base + 8 * k + j] = F(0)
            numbers[base + NUMBERS + j] = -1
