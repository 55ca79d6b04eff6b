"""A ray through the tree of one mesh: the closest hit, or whether anything is in the way."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from mill_lane.core.render.jit import (
    boxes_entered,
    inner,
    triangles_hit,
    triangles_touched,
)
from mill_lane.core.render.pointers import as_i32, fetch_ahead, float_bits, lowest_bit
from mill_lane.core.render.slots import *
from mill_lane.core.render.wide_nodes import LEAF, LINKS, NODE

F = np.float32
LOW, HALF = np.uint64(0xFFFFFFFF), np.uint64(32)
END = np.int32(-2147483648)
LAST = np.uint64(0x80000000)  # END at distance 0


@inner
def inverse(d: Any) -> Any:
    """One over a direction's component, finite where it is zero."""
    least = F(1e-18)
    if abs(d) < least:
        d = least if d >= 0 else -least
    return F(1) / d


class Probe(NamedTuple):
    """A ray in one space, float32, as nodes and blocks of triangles are tested with it."""

    origin: Any
    inverse: Any  # of the direction
    near: Any  # which plane of a node is met first along each axis: 0 the lower, 8 the upper
    axes: Any  # where in a block the numbers of each axis begin, the ray's steepest axis last
    start: Any  # the origin in the order of `axes`
    shear: Any  # what leads along the ray to the steepest axis, and that axis to lengths of the ray


@inner
def probe(ray: Any, lanes: Any) -> Probe:
    """Of a ray's origin and direction, six float32; `lanes` is scratch."""
    ix, iy, iz = inverse(ray[3]), inverse(ray[4]), inverse(ray[5])
    nx = np.int64(0) if ix >= 0 else np.int64(8)
    ny = np.int64(0) if iy >= 0 else np.int64(8)
    nz = np.int64(0) if iz >= 0 else np.int64(8)
    axes, start, shear = sheared(ray, lanes)
    return Probe((ray[0], ray[1], ray[2]), (ix, iy, iz), (nx, ny, nz), axes, start, shear)


@inner
def _after(axis: Any) -> Any:
    return axis + np.int64(1) if axis < 2 else np.int64(0)


@inner
def sheared(ray: Any, lanes: Any) -> Any:
    """`axes`, `start` and `shear` of a `Probe`."""
    for k in range(6):
        lanes[k] = ray[k]
    dx, dy, dz = abs(ray[3]), abs(ray[4]), abs(ray[5])
    # No branches: directions come in any order, and a wrong guess costs more than the rest.
    z = max(np.int64(dy >= dx), 2 * np.int64(dz >= max(dx, dy)))
    x = _after(z)
    y = _after(x)
    along = F(1) / lanes[3 + z]
    return (
        (8 * x, 8 * y, 8 * z),
        (lanes[x], lanes[y], lanes[z]),
        (lanes[3 + x] * along, lanes[3 + y] * along, along),
    )


@inner
def entered(nodes: Any, base: int, ray: Probe, limit: Any, lanes: Any) -> Any:
    """`boxes_entered` of a node."""
    (nx, ny, nz), (ix, iy, iz), (ox, oy, oz) = ray.near, ray.inverse, ray.origin
    return boxes_entered(nodes, base, nx, ny, nz, ix, iy, iz, ox, oy, oz, limit, lanes)


@inner
def ask_for(nodes: Any, leaves: Any, link: Any) -> None:
    """Begin to read a child that will be looked into later."""
    if link >= 0:
        fetch_ahead(nodes, np.int64(link) * NODE)
    else:
        fetch_ahead(leaves, np.int64(~link) * LEAF)


@inner
def _entry(links: Any, at: int, lanes: Any, k: int) -> Any:
    """What the stack holds of a node's k-th child: where it is entered, and its link."""
    return (float_bits(lanes[k]) << HALF) | (np.uint64(links[at + k]) & LOW)


@inner
def in_order(links: Any, at: int, mask: Any, lanes: Any, stack: Any, top: int) -> Any:
    """The nearest of the children that a ray enters, as an entry of the stack, and the new top: the
    others are kept in order, the farthest deepest.
    """
    k = lowest_bit(mask)
    mask &= mask - np.int32(1)
    nearest = _entry(links, at, lanes, k)
    if mask == 0:
        return nearest, top
    k = lowest_bit(mask)
    mask &= mask - np.int32(1)
    entry = _entry(links, at, lanes, k)
    stack[top] = max(nearest, entry)
    nearest = min(nearest, entry)
    bottom = top
    top += 1
    while mask != 0:
        k = lowest_bit(mask)
        mask &= mask - np.int32(1)
        entry = _entry(links, at, lanes, k)
        farther = max(nearest, entry)
        nearest = min(nearest, entry)
        j = top
        while j > bottom and stack[j - 1] < farther:
            stack[j] = stack[j - 1]
            j -= 1
        stack[j] = farther
        top += 1
    return nearest, top


@inner
def mesh_closest(nodes: Any, leaves: Any, ray: Probe, limit: Any, stack: Any, lanes: Any) -> Any:
    """The nearest hit in one mesh before `limit`:

    (t, u, v, slot or -1, nodes tested, leaves tested).

    A slot is 8 times the block of the mesh plus the place in it.
    """
    links = as_i32(nodes)
    best, hit_u, hit_v, slot = limit, F(0), F(0), np.int64(-1)
    tested, opened = np.int64(0), np.int64(0)
    stack[0] = LAST
    top = np.int64(1)
    current = np.int32(0)
    while current != END:
        if current >= 0:
            base = np.int64(current) * NODE
            tested += 1
            mask = entered(nodes, base, ray, best, lanes)
            if mask != 0:
                entry, top = in_order(links, base + LINKS, mask, lanes, stack, top)
                current = np.int32(entry & LOW)
                if mask & (mask - np.int32(1)) != 0:
                    ask_for(nodes, leaves, np.int32(stack[top - 1] & LOW))
                continue
        else:
            block = np.int64(~current)
            opened += 1
            (x, y, z), (ox, oy, oz), (sx, sy, sz) = ray.axes, ray.start, ray.shear
            at = block * LEAF
            mask = triangles_hit(leaves, at, x, y, z, ox, oy, oz, sx, sy, sz, best, lanes)
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
def mesh_blocked(nodes: Any, leaves: Any, ray: Probe, limit: Any, stack: Any, lanes: Any) -> Any:
    """Whether anything in one mesh is hit before `limit`: (0 or 1, nodes tested, leaves tested).

    The nearest child is looked into first, which finds something a third sooner than any order; the
    others are left unsorted.
    """
    links = as_i32(nodes)
    tested, opened = np.int64(0), np.int64(0)
    stack[0] = LAST
    top = np.int64(1)
    current = np.int32(0)
    while current != END:
        if current >= 0:
            base = np.int64(current) * NODE
            tested += 1
            mask = entered(nodes, base, ray, limit, lanes)
            if mask != 0:
                k = lowest_bit(mask)
                mask &= mask - np.int32(1)
                current = links[base + LINKS + k]
                if mask == 0:
                    continue
                ask_for(nodes, leaves, current)
                nearest = _entry(links, base + LINKS, lanes, k)
                while mask != 0:
                    k = lowest_bit(mask)
                    mask &= mask - np.int32(1)
                    ask_for(nodes, leaves, links[base + LINKS + k])
                    entry = _entry(links, base + LINKS, lanes, k)
                    stack[top] = max(nearest, entry)
                    nearest = min(nearest, entry)
                    top += 1
                current = np.int32(nearest & LOW)
                continue
        else:
            opened += 1
            (x, y, z), (ox, oy, oz), (sx, sy, sz) = ray.axes, ray.start, ray.shear
            at = np.int64(~current) * LEAF
            if triangles_touched(leaves, at, x, y, z, ox, oy, oz, sx, sy, sz, limit) != 0:
                return np.int64(1), tested, opened
        top -= 1
        current = np.int32(stack[top] & LOW)
    return np.int64(0), tested, opened
