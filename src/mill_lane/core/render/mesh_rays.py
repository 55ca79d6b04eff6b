"""A ray through the tree of one mesh: the closest hit, or whether anything is in the way."""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.render.build import LEAF, LINKS, NODE
from mill_lane.core.render.jit import (
    boxes_entered,
    inner,
    triangles_hit,
    triangles_touched,
)
from mill_lane.core.render.pointers import as_i32, fetch_ahead, float_bits, lowest_bit
from mill_lane.core.render.slots import *

F = np.float32

LOW = np.uint64(0xFFFFFFFF)


HALF = np.uint64(32)


END = np.int32(-2147483648)


LAST = np.uint64(0x80000000)  # END at distance 0


@inner
def inverse(d: Any) -> Any:
    """One over a direction's component, finite where it is zero."""
    least = F(1e-18)
    if abs(d) < least:
        d = least if d >= 0 else -least
    return F(1) / d


@inner
def ask_for(nodes: Any, leaves: Any, link: Any) -> None:
    """Begin to read a child that will be looked into later."""
    if link >= 0:
        fetch_ahead(nodes, np.int64(link) * NODE)
    else:
        fetch_ahead(leaves, np.int64(~link) * LEAF)


@inner
def mesh_closest(
    nodes: Any,
    leaves: Any,
    ox: Any,
    oy: Any,
    oz: Any,
    dx: Any,
    dy: Any,
    dz: Any,
    limit: Any,
    stack: Any,
    lanes: Any,
) -> Any:
    """The nearest hit in one mesh before `limit`:

    (t, u, v, slot or -1, nodes tested, leaves tested).

    A slot is 8 times the block of the mesh plus the place in it.
    """
    links = as_i32(nodes)
    ix, iy, iz = inverse(dx), inverse(dy), inverse(dz)
    nx = np.int64(0) if ix >= 0 else np.int64(8)
    ny = np.int64(0) if iy >= 0 else np.int64(8)
    nz = np.int64(0) if iz >= 0 else np.int64(8)
    best, hit_u, hit_v, slot = limit, F(0), F(0), np.int64(-1)
    tested, opened = np.int64(0), np.int64(0)
    stack[0] = LAST
    top = np.int64(1)
    current = np.int32(0)
    while current != END:
        if current >= 0:
            base = np.int64(current) * NODE
            tested += 1
            mask = boxes_entered(nodes, base, nx, ny, nz, ix, iy, iz, ox, oy, oz, best, lanes)
            if mask != 0:
                # The nearest child is gone on with at once, the others are kept in order, the
                # farthest deepest.
                k = lowest_bit(mask)
                mask &= mask - np.int32(1)
                current = links[base + LINKS + k]
                if mask == 0:
                    continue
                first = (float_bits(lanes[k]) << HALF) | (np.uint64(current) & LOW)
                ask_for(nodes, leaves, current)
                k = lowest_bit(mask)
                mask &= mask - np.int32(1)
                ask_for(nodes, leaves, links[base + LINKS + k])
                second = (float_bits(lanes[k]) << HALF) | (np.uint64(links[base + LINKS + k]) & LOW)
                nearest = min(first, second)
                stack[top] = max(first, second)
                bottom = top
                top += 1
                while mask != 0:
                    k = lowest_bit(mask)
                    mask &= mask - np.int32(1)
                    entry = (float_bits(lanes[k]) << HALF) | (
                        np.uint64(links[base + LINKS + k]) & LOW
                    )
                    farther = max(nearest, entry)
                    nearest = min(nearest, entry)
                    j = top
                    while j > bottom and stack[j - 1] < farther:
                        stack[j] = stack[j - 1]
                        j -= 1
                    stack[j] = farther
                    top += 1
                current = np.int32(nearest & LOW)
                continue
        else:
            block = np.int64(~current)
            opened += 1
            mask = triangles_hit(leaves, block * LEAF, ox, oy, oz, dx, dy, dz, best, lanes)
            while mask != 0:
                k = lowest_bit(mask)
                mask &= mask - np.int32(1)
                if lanes[k] < best:
                    best, hit_u, hit_v = lanes[k], lanes[8 + k], lanes[16 + k]
                    slot = block * 8 + k
        within = (float_bits(best) << HALF) | LOW
        while True:
            top -= 1
            entry = stack[top]
            if entry <= within:
                break
        current = np.int32(entry & LOW)
    return best, hit_u, hit_v, slot, tested, opened


@inner
def mesh_blocked(
    nodes: Any,
    leaves: Any,
    ox: Any,
    oy: Any,
    oz: Any,
    dx: Any,
    dy: Any,
    dz: Any,
    limit: Any,
    stack: Any,
    lanes: Any,
) -> Any:
    """Whether anything in one mesh is hit before `limit`: (0 or 1, nodes tested, leaves tested).

    The nearest child is looked into first, which finds something a third sooner than any order; the
    others are left unsorted.
    """
    links = as_i32(nodes)
    ix, iy, iz = inverse(dx), inverse(dy), inverse(dz)
    nx = np.int64(0) if ix >= 0 else np.int64(8)
    ny = np.int64(0) if iy >= 0 else np.int64(8)
    nz = np.int64(0) if iz >= 0 else np.int64(8)
    tested, opened = np.int64(0), np.int64(0)
    stack[0] = LAST
    top = np.int64(1)
    current = np.int32(0)
    while current != END:
        if current >= 0:
            base = np.int64(current) * NODE
            tested += 1
            mask = boxes_entered(nodes, base, nx, ny, nz, ix, iy, iz, ox, oy, oz, limit, lanes)
            if mask != 0:
                k = lowest_bit(mask)
                mask &= mask - np.int32(1)
                current = links[base + LINKS + k]
                if mask == 0:
                    continue
                ask_for(nodes, leaves, current)
                nearest = (float_bits(lanes[k]) << HALF) | (np.uint64(current) & LOW)
                while mask != 0:
                    k = lowest_bit(mask)
                    mask &= mask - np.int32(1)
                    ask_for(nodes, leaves, links[base + LINKS + k])
                    entry = (float_bits(lanes[k]) << HALF) | (
                        np.uint64(links[base + LINKS + k]) & LOW
                    )
                    stack[top] = max(nearest, entry)
                    nearest = min(nearest, entry)
                    top += 1
                current = np.int32(nearest & LOW)
                continue
        else:
            opened += 1
            if (
                triangles_touched(leaves, np.int64(~current) * LEAF, ox, oy, oz, dx, dy, dz, limit)
                != 0
            ):
                return np.int64(1), tested, opened
        top -= 1
        current = np.int32(stack[top] & LOW)
    return np.int64(0), tested, opened
