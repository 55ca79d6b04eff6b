"""Following rays through the two levels: instances in the world, triangles in each mesh.

A ray stands in a path's scratch (`slots.Q_`), in float64; it is carried into each instance's own
space before it is rounded to float32, so that an object far from the origin is hit as finely as one
near it.  t counts in lengths of the world direction everywhere.  The stack holds the distance in
the upper half of an entry and the link in the lower: one comparison sorts, and drops what lies
behind the nearest hit so far.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.render.jit import boxes_touched, inner, kernel, lean, linked
from mill_lane.core.render.mesh_rays import (
    END,
    HALF,
    LAST,
    LOW,
    entered,
    in_order,
    mesh_blocked,
    mesh_closest,
    probe,
)
from mill_lane.core.render.pointers import (
    as_i32,
    f32_at,
    f64_at,
    float_bits,
    i64_at,
    lowest_bit,
    u64_at,
)
from mill_lane.core.render.side_by_side import thread_of
from mill_lane.core.render.slots import *
from mill_lane.core.render.wide_nodes import LEAF, LINKS, NODE, NUMBERS

F, U = np.float32, np.uint64
ALL, ONLY_SEE_THROUGH = 0, 1
OPAQUE_SHADOWS = HIDDEN | NO_SHADOW | SEE_THROUGH  # what a shadow ray does not look for


@linked
def moving_matrices(w: Any, q: Any, move: int) -> None:
    """Object-to-world of a moving instance at the path's time, and its inverse, into the thread's
    own numbers.

    Between the keys of the shutter the matrix runs straight on, element by element.
    """
    keys = f64_at(w[W_MOVES])
    s = q[Q_TIME] * (CAMERA_KEYS - 1)
    i = min(int(s), CAMERA_KEYS - 2)
    f = s - i
    at = (move * CAMERA_KEYS + i) * 12
    m = thread_of(q)
    out = T_MATRIX + 12
    for k in range(12):
        m[out + k] = (1.0 - f) * keys[at + k] + f * keys[at + 12 + k]
    a, b, c = m[out], m[out + 1], m[out + 2]
    d, e, g = m[out + 4], m[out + 5], m[out + 6]
    h, i_, j = m[out + 8], m[out + 9], m[out + 10]
    x, y, z = e * j - g * i_, g * h - d * j, d * i_ - e * h
    k_ = 1.0 / (a * x + b * y + c * z)
    i = T_MATRIX
    m[i], m[i + 1], m[i + 2] = x * k_, (c * i_ - b * j) * k_, (b * g - c * e) * k_
    m[i + 4], m[i + 5], m[i + 6] = y * k_, (a * j - c * h) * k_, (c * d - a * g) * k_
    m[i + 8], m[i + 9], m[i + 10] = z * k_, (b * h - a * i_) * k_, (a * e - b * d) * k_
    tx, ty, tz = m[out + 3], m[out + 7], m[out + 11]
    for r in range(i, i + 12, 4):
        m[r + 3] = -(m[r] * tx + m[r + 1] * ty + m[r + 2] * tz)


@inner
def ray_of(q: Any) -> Any:
    """The path's ray, float64: where it starts, in metres, and its direction, of length 1."""
    return (q[Q_OX], q[Q_OY], q[Q_OZ]), (q[Q_DX], q[Q_DY], q[Q_DZ])


@inner
def _in_world(ray: Any) -> Any:
    """A ray in the world, as float32."""
    (x, y, z), (p, r, s) = ray
    return F(x), F(y), F(z), F(p), F(r), F(s)


@inner
def _into(m: Any, i: int, ray: Any) -> Any:
    """A ray in an instance's own space, as float32."""
    (x, y, z), (p, r, s) = ray
    return (
        F(m[i] * x + m[i + 1] * y + m[i + 2] * z + m[i + 3]),
        F(m[i + 4] * x + m[i + 5] * y + m[i + 6] * z + m[i + 7]),
        F(m[i + 8] * x + m[i + 9] * y + m[i + 10] * z + m[i + 11]),
        F(m[i] * p + m[i + 1] * r + m[i + 2] * s),
        F(m[i + 4] * p + m[i + 5] * r + m[i + 6] * s),
        F(m[i + 8] * p + m[i + 9] * r + m[i + 10] * s),
    )


@inner
def _ray_into(w: Any, q: Any, ray: Any, place: int, move: int) -> Any:
    if move >= 0:
        moving_matrices(w, q, move)
        return _into(thread_of(q), T_MATRIX, ray)
    return _into(f64_at(w[W_TO_OBJECT]), place * 12, ray)


@linked
def _only_place(w: Any, q: Any, c: Any, profile: int, any_hit: bool) -> bool:
    """`closest` or `blocked` in a world of one place: straight into its mesh."""
    instances = i64_at(w[W_INSTANCES])
    here = np.int64(q[Q_THREAD])
    below, lanes = u64_at(here + 8 * (T_STACK + STACK)), f32_at(here + 8 * T_LANES)
    nodes, leaves = (
        f32_at(w[W_NODES] + 4 * NODE * instances[P_NODE]),
        f32_at(w[W_LEAVES] + 4 * LEAF * instances[P_LEAF]),
    )
    ray = probe(_ray_into(w, q, ray_of(q), 0, instances[P_MOVE]), lanes)
    found = False
    if any_hit:
        hit, a, b = mesh_blocked(nodes, leaves, ray, F(q[Q_FAR]), below, lanes)
        found = hit != 0
    else:
        t, u, v, slot, a, b = mesh_closest(nodes, leaves, ray, F(q[Q_FAR]), below, lanes)
        q[Q_T], q[Q_BU], q[Q_BV], q[Q_SLOT], q[Q_INSTANCE] = t, u, v, -1, -1
        if slot >= 0:
            q[Q_SLOT], q[Q_INSTANCE] = instances[P_LEAF] * 8 + slot, 0
    q[Q_NODES], q[Q_LEAVES] = a, b
    if profile:
        c[C_INSTANCES] += a
        c[C_INSTANCES + 1] += b
    return found


@linked
def closest(w: Any, q: Any, c: Any, profile: int, which: int) -> None:
    """The nearest hit of the path's ray before Q_FAR:

    Q_T, Q_BU, Q_BV, Q_SLOT, Q_INSTANCE (-1 for a miss).

    `which` is ALL but for what the ray does not see (Q_UNSEEN), or ONLY_SEE_THROUGH for shadow
    rays.  Q_NODES and Q_LEAVES receive the work; with `profile` each instance's own is added to the
    counters.
    """
    count = w[W_INSTANCE_COUNT]
    instances = i64_at(w[W_INSTANCES])
    unseen = np.int64(q[Q_UNSEEN]) if which == ALL else np.int64(HIDDEN | NO_SHADOW)
    if count == 1 and which == ALL and (instances[P_FLAGS] & unseen) == 0:
        _only_place(w, q, c, profile, False)
        return
    q[Q_T], q[Q_BU], q[Q_BV], q[Q_SLOT], q[Q_INSTANCE], q[Q_NODES], q[Q_LEAVES] = (
        q[Q_FAR],
        0.0,
        0.0,
        -1,
        -1,
        0.0,
        0.0,
    )
    if count == 0:
        return
    top_nodes = f32_at(w[W_TOP] if which == ALL else w[W_TOP_PANES])
    all_nodes, all_blocks = w[W_NODES], w[W_LEAVES]
    top_links = as_i32(top_nodes)
    here = np.int64(q[Q_THREAD])
    stack, below = u64_at(here + 8 * T_STACK), u64_at(here + 8 * (T_STACK + STACK))
    lanes = f32_at(here + 8 * T_LANES)
    # Taken up once: the stack may lie anywhere, for all the compiler knows.
    ray = ray_of(q)
    straight = probe(_in_world(ray), lanes)
    best, hit_u, hit_v = F(q[Q_FAR]), F(0), F(0)
    hit_slot, hit_place = np.int64(-1), np.int64(-1)
    tested, opened = np.int64(0), np.int64(0)
    stack[0] = LAST
    top = np.int64(1)
    current = np.int32(0)
    while current != END:
        if current >= 0:
            base = np.int64(current) * NODE
            tested += 1
            mask = entered(top_nodes, base, straight, best, lanes)
            if mask != 0:
                entry, top = in_order(top_links, base + LINKS, mask, lanes, stack, top)
                current = np.int32(entry & LOW)
                continue
        else:
            place = np.int64(~current)
            at = i64_at(w[W_INSTANCES] + 8 * INSTANCE_COLUMNS * place)
            flags = at[P_FLAGS]
            if (flags & unseen) == 0:
                nodes = f32_at(all_nodes + 4 * NODE * at[P_NODE])
                leaves = f32_at(all_blocks + 4 * LEAF * at[P_LEAF])
                inside = straight
                if flags & PLAIN == 0:
                    inside = probe(_ray_into(w, q, ray, place, at[P_MOVE]), lanes)
                t, hu, hv, found, a, b = mesh_closest(nodes, leaves, inside, best, below, lanes)
                tested += a
                opened += b
                if profile:
                    c[C_INSTANCES + place * INSTANCE_WORK] += a
                    c[C_INSTANCES + place * INSTANCE_WORK + 1] += b
                if found >= 0:
                    best = t
                    hit_u, hit_v, hit_slot, hit_place = hu, hv, at[P_LEAF] * 8 + found, place
        within = (float_bits(best) << HALF) | LOW
        while True:
            top -= 1
            entry = stack[top]
            if entry <= within:
                break
        current = np.int32(entry & LOW)
    if hit_place >= 0:
        q[Q_T], q[Q_BU], q[Q_BV], q[Q_SLOT], q[Q_INSTANCE] = best, hit_u, hit_v, hit_slot, hit_place
    q[Q_NODES], q[Q_LEAVES] = tested, opened


@linked
def blocked(w: Any, q: Any, c: Any, profile: int, unseen: int) -> bool:
    """Whether anything stands in the path's ray before Q_FAR, but for places with a flag of
    `unseen` (`OPAQUE_SHADOWS`: all that let no light through); work as in `closest`.
    """
    count = w[W_INSTANCE_COUNT]
    instances = i64_at(w[W_INSTANCES])
    if count == 1 and (instances[P_FLAGS] & unseen) == 0:
        return _only_place(w, q, c, profile, True)
    q[Q_NODES], q[Q_LEAVES] = 0.0, 0.0
    if count == 0:
        return False
    top_nodes, all_nodes, all_blocks = f32_at(w[W_TOP]), w[W_NODES], w[W_LEAVES]
    top_links = as_i32(top_nodes)
    here = np.int64(q[Q_THREAD])
    stack, below = u64_at(here + 8 * T_STACK), u64_at(here + 8 * (T_STACK + STACK))
    lanes = f32_at(here + 8 * T_LANES)
    # Taken up once: the stack may lie anywhere, for all the compiler knows.
    ray = ray_of(q)
    straight = probe(_in_world(ray), lanes)
    limit = F(q[Q_FAR])
    tested, opened = np.int64(0), np.int64(0)
    stack[0] = LAST
    top = np.int64(1)
    current = np.int32(0)
    found = False
    while current != END:
        if current >= 0:
            base = np.int64(current) * NODE
            tested += 1
            (nx, ny, nz), (ix, iy, iz), (ox, oy, oz) = (
                straight.near,
                straight.inverse,
                straight.origin,
            )
            mask = boxes_touched(top_nodes, base, nx, ny, nz, ix, iy, iz, ox, oy, oz, limit)
            while mask != 0:
                k = lowest_bit(mask)
                mask &= mask - np.int32(1)
                stack[top] = np.uint64(top_links[base + LINKS + k])
                top += 1
        else:
            place = np.int64(~current)
            at = i64_at(w[W_INSTANCES] + 8 * INSTANCE_COLUMNS * place)
            if (at[P_FLAGS] & unseen) == 0:
                nodes = f32_at(all_nodes + 4 * NODE * at[P_NODE])
                leaves = f32_at(all_blocks + 4 * LEAF * at[P_LEAF])
                inside = straight
                if at[P_FLAGS] & PLAIN == 0:
                    inside = probe(_ray_into(w, q, ray, place, at[P_MOVE]), lanes)
                hit, a, b = mesh_blocked(nodes, leaves, inside, limit, below, lanes)
                tested += a
                opened += b
                if profile:
                    c[C_INSTANCES + place * INSTANCE_WORK] += a
                    c[C_INSTANCES + place * INSTANCE_WORK + 1] += b
                if hit:
                    found = True
                    break
        top -= 1
        current = np.int32(stack[top] & LOW)
    q[Q_NODES], q[Q_LEAVES] = tested, opened
    return found


@lean
def closest_batch(
    world: int,
    path: int,
    origins: int,
    directions: int,
    distances: int,
    unseen: int,
    count: int,
    t: int,
    uv: int,
    slots: int,
    instances: int,
) -> None:
    """Nearest hits of many rays, for tests, benches and weighing.

    Addresses of float32 (R, 3), (R, 3), (R,) and int64 (R,), flags of places that are not seen;
    then of what is filled: float32 (R,), (R, 2), int64 (R,), int64 (R,).  A slot is 8 x block +
    place in the block; `numbers_of` turns it into the triangle of the mesh.
    """
    w, q, none = i64_at(world), f64_at(path), i64_at(0)
    o, d, far = f32_at(origins), f32_at(directions), f32_at(distances)
    skipped = i64_at(unseen)
    out_t, out_uv, out_slot, out_place = f32_at(t), f32_at(uv), i64_at(slots), i64_at(instances)
    for r in range(count):
        q[Q_OX], q[Q_OY], q[Q_OZ] = o[3 * r], o[3 * r + 1], o[3 * r + 2]
        q[Q_DX], q[Q_DY], q[Q_DZ] = d[3 * r], d[3 * r + 1], d[3 * r + 2]
        q[Q_FAR], q[Q_UNSEEN] = far[r], skipped[r]
        closest(w, q, none, 0, ALL)
        out_t[r], out_uv[2 * r], out_uv[2 * r + 1] = q[Q_T], q[Q_BU], q[Q_BV]
        out_slot[r], out_place[r] = np.int64(q[Q_SLOT]), np.int64(q[Q_INSTANCE])


@lean
def blocked_batch(
    world: int, path: int, origins: int, directions: int, distances: int, count: int, out: int
) -> None:
    """Whether anything is hit before a distance; like `closest_batch`, filling int64 (R,) with 0 or
    1.
    """
    w, q, none = i64_at(world), f64_at(path), i64_at(0)
    o, d, far, answer = f32_at(origins), f32_at(directions), f32_at(distances), i64_at(out)
    for r in range(count):
        q[Q_OX], q[Q_OY], q[Q_OZ] = o[3 * r], o[3 * r + 1], o[3 * r + 2]
        q[Q_DX], q[Q_DY], q[Q_DZ] = d[3 * r], d[3 * r + 1], d[3 * r + 2]
        q[Q_FAR] = far[r]
        answer[r] = 1 if blocked(w, q, none, 0, OPAQUE_SHADOWS) else 0


@kernel
def numbers_of(leaves: Any, slots: Any) -> Any:
    """The triangle numbers of slots, int64 (R,); -1 stays -1.  `leaves` is float32 (B, 80)."""
    flat = leaves.reshape(-1).view(np.int32)
    out = np.full(slots.shape[0], -1, np.int64)
    for i in range(slots.shape[0]):
        if slots[i] >= 0:
            out[i] = flat[(slots[i] >> 3) * LEAF + NUMBERS + (slots[i] & 7)]
    return out
