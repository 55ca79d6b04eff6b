"""What a ray finds where it hits: place, normals, and where on the textures it lies.

Everything is written to the event's slots of the path (`slots.Q_PX` and on).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.lanes import as_floats, most, root, size_of, u32, where
from mill_lane.core.render.materials import factors_of, texel
from mill_lane.core.render.microfacet import frame
from mill_lane.core.render.pointers import as_i32, f32_at, f64_at, fetch_line, i64_at, u32_at
from mill_lane.core.render.quick import base2
from mill_lane.core.render.sampler import UNIT, mix
from mill_lane.core.render.side_by_side import (
    bit,
    following,
    mask_of,
    own,
    put,
    take,
    take_wholes,
    thread_of,
)
from mill_lane.core.render.slots import *
from mill_lane.core.render.traverse import moving_matrices
from mill_lane.core.render.vec import (
    Vec3,
    cross,
    dot,
    either,
    out_of,
    plus,
    put_vector,
    times,
    unit,
    vector_at,
)
from mill_lane.core.render.wide_nodes import LEAF, NUMBERS

F = np.float32
GOLDEN = np.uint32(0x9E3779B9)  # the golden ratio's fraction, of 2 ** 32
LONGEST = 16.0  # of what a pixel covers on a surface, the wide side over the narrow one


@inner
def corner_and_edges(w: Any, slot: int) -> Any:
    """A triangle in its object's own space, float64:

    the first corner, and the edges to the second and the third.
    """
    block, base = f32_at(w[W_LEAVES]), (slot >> 3) * LEAF + (slot & 7)
    x, y, z = np.float64(block[base]), np.float64(block[base + 8]), np.float64(block[base + 16])
    return (
        (x, y, z),
        (block[base + 24] - x, block[base + 32] - y, block[base + 40] - z),
        (block[base + 48] - x, block[base + 56] - y, block[base + 64] - z),
    )


@inner
def turned(m: Any, i: int, x: float, y: float, z: float) -> Any:
    """A direction in the world; the rows of its matrix (3, 4) begin at m[i]."""
    return (
        m[i] * x + m[i + 1] * y + m[i + 2] * z,
        m[i + 4] * x + m[i + 5] * y + m[i + 6] * z,
        m[i + 8] * x + m[i + 9] * y + m[i + 10] * z,
    )


@inner
def corner_numbers(w: Any, triangle: int, slot: int) -> Any:
    """Which vertices of its mesh a triangle has; `triangle` is where the mesh's triangles begin."""
    number = np.int64(as_i32(f32_at(w[W_LEAVES]))[(slot >> 3) * LEAF + NUMBERS + (slot & 7)])
    corners = u32_at(w[W_TRIANGLES] + 12 * (triangle + number))
    return np.int64(corners[0]), np.int64(corners[1]), np.int64(corners[2])


@linked
def place(w: Any, p: Any, paths: int) -> None:
    """Where some paths' rays hit, and how that is turned; Q_CONE are the rays' widths there."""
    textured, second, leaning, mapped, stretched = _read_places(w, p, paths)
    mask, d = mask_of(paths), vector_at(p, Q_DX)
    a, b = vector_at(p, Q_EDGE_X), vector_at(p, Q_OTHER_X)
    flat, n = times(cross(a, b), take(p, Q_HAND)), unit(vector_at(p, Q_NX))
    area = root(dot(flat, flat))
    f = unit(flat)
    facing = dot(f, d)
    if textured | second != 0:
        # The narrow side of what a pixel covers chooses the mip level: along the wide side the
        # pixel's samples lie apart and average.  Beyond 16 to 1 their number would not do.
        slant = F(1) / (F(LONGEST) * most(size_of(facing), F(1e-3)))
        narrow = most(take(p, Q_CONE), F(1e-12)) * most(slant, F(1))
        per_area = F(1) / most(area, F(1e-30))
        dither = _dither(p)
        put(p, Q_LEVEL, _level(take(p, Q_LAID), per_area, narrow) + dither, mask_of(textured))
        level = _level(take(p, Q_LAID_SECOND), per_area, narrow) + dither
        put(p, Q_LEVEL_SECOND, level, mask_of(second))
    if leaning != 0:
        hand = where(take(p, Q_LAID_NORMAL) < F(0), F(-1), F(1))
        dv1, dv2 = take(p, Q_RISE) * hand, take(p, Q_OTHER_RISE) * hand
        t = plus(times(a, dv2), times(b, F(0) - dv1))
        put_vector(p, Q_TANGENT_X, t, mask_of(leaning))
        if mapped != 0:
            n = either(mask_of(mapped), _bump(w, p, mapped, n, t, hand), n)
    side = where(facing > F(0), F(-1), F(1))
    put(p, Q_FRONT, side, mask)
    f, n = times(f, side), times(n, side)
    n = either(dot(n, f) < F(0.02), f, n)
    # A bent normal may face away from the ray where the surface does not: lean it back until it
    # just faces it.
    away = dot(n, d)
    leant = unit(plus(n, times(d, F(0) - (away + F(0.01)))))
    leant = either(dot(leant, f) < F(0.02), f, leant)
    n = either(away > F(-0.01), leant, n)
    put_vector(p, Q_GX, f, mask)
    put_vector(p, Q_NX, n, mask)
    if stretched != 0:
        _turn_tangent(p, n, stretched, leaning)


@linked
def _read_places(w: Any, p: Any, paths: int) -> Any:
    """Read what the triangles are that some paths hit: their edges in the world, the smooth normal,
    where on the textures they lie, the colour of their vertices.

    Returns the paths with a texture on the first layout, on the second; those that need a tangent,
    that have a normal map, whose gloss is stretched along the tangent.
    """
    textured, second, leaning = np.int64(0), np.int64(0), np.int64(0)
    mapped, stretched = np.int64(0), np.int64(0)
    left = paths
    while left != 0:
        k, left = following(left)
        _ask_for_corners(w, own(p, k))
    left = paths
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        at = i64_at(w[W_INSTANCES] + 8 * INSTANCE_COLUMNS * np.int64(q[Q_INSTANCE]))
        k0, k1, k2 = (
            np.int64(q[Q_CORNER]),
            np.int64(q[Q_CORNER + SIDE]),
            np.int64(q[Q_CORNER + 2 * SIDE]),
        )
        _read_shape(w, q, at, k0, k1, k2)
        material = at[P_MATERIAL]
        q[Q_MATERIAL] = material
        q[Q_U], q[Q_V], q[Q_LEVEL] = 0.0, 0.0, 0.0
        q[Q_TINT_R], q[Q_TINT_G], q[Q_TINT_B], q[Q_TINT_A] = 1.0, 1.0, 1.0, 1.0
        if at[P_COLOR] >= 0:
            _read_tint(w, q, at, k0, k1, k2)
        factors = factors_of(w, material)
        if factors[M_ANISOTROPY] > 0:
            stretched |= bit(k)
        if factors[M_TEXTURED] <= 0:
            continue
        u, v = q[Q_BU], q[Q_BV]
        if at[P_UV_SECOND] >= 0:
            uvs = f32_at(w[W_UVS] + 8 * at[P_UV_SECOND])
            q[Q_U_SECOND], q[Q_V_SECOND], q[Q_LAID_SECOND] = _lay(uvs, k0, k1, k2, u, v)
            second |= bit(k)
        if at[P_UV] < 0:
            continue
        uvs = f32_at(w[W_UVS] + 8 * at[P_UV])
        q[Q_U], q[Q_V], det = _lay(uvs, k0, k1, k2, u, v)
        q[Q_LAID] = det
        textured |= bit(k)
        map_ = i64_at(w[W_SLOTS])[material * TEXTURE_SLOTS + NORMAL] >= 0
        if (map_ or factors[M_ANISOTROPY] > 0) and abs(det) > 1e-20:
            if map_ and at[P_UV_SECOND] >= 0:
                use = f64_at(w[W_UV_TRANSFORMS])
                if use[(material * TEXTURE_SLOTS + NORMAL) * USE_COLUMNS + U_SET] > 0:
                    uvs = f32_at(w[W_UVS] + 8 * at[P_UV_SECOND])
                    det = q[Q_LAID_SECOND]
            q[Q_LAID_NORMAL] = det
            q[Q_RISE] = uvs[2 * k1 + 1] - uvs[2 * k0 + 1]
            q[Q_OTHER_RISE] = uvs[2 * k2 + 1] - uvs[2 * k0 + 1]
            leaning |= bit(k)
            if map_:
                mapped |= bit(k)
    return textured, second, leaning, mapped, stretched


@linked
def ask_for_triangle(w: Any, q: Any) -> None:
    """Have fetched which corners the triangle has that the path's ray hit."""
    at = i64_at(w[W_INSTANCES] + 8 * INSTANCE_COLUMNS * np.int64(q[Q_INSTANCE]))
    slot = np.int64(q[Q_SLOT])
    number = np.int64(as_i32(f32_at(w[W_LEAVES]))[(slot >> 3) * LEAF + NUMBERS + (slot & 7)])
    fetch_line(u32_at(w[W_TRIANGLES]), 3 * (at[P_TRIANGLE] + number))


@inner
def _ask_for_corners(w: Any, q: Any) -> None:
    """Read which corners the triangle has, and have fetched what is read of them later: each lies
    somewhere else in memory.
    """
    at = i64_at(w[W_INSTANCES] + 8 * INSTANCE_COLUMNS * np.int64(q[Q_INSTANCE]))
    k0, k1, k2 = corner_numbers(w, at[P_TRIANGLE], np.int64(q[Q_SLOT]))
    q[Q_CORNER], q[Q_CORNER + SIDE], q[Q_CORNER + 2 * SIDE] = k0, k1, k2
    normals = f32_at(w[W_NORMALS] + 12 * at[P_VERTEX])
    fetch_line(normals, 3 * k0)
    fetch_line(normals, 3 * k1)
    fetch_line(normals, 3 * k2)
    if at[P_UV] >= 0:
        uvs = f32_at(w[W_UVS] + 8 * at[P_UV])
        fetch_line(uvs, 2 * k0)
        fetch_line(uvs, 2 * k1)
        fetch_line(uvs, 2 * k2)


@inner
def _read_shape(w: Any, q: Any, at: Any, k0: int, k1: int, k2: int) -> None:
    """Where one path's ray hits, the edges there and the smooth normal, in the world."""
    u, v = q[Q_BU], q[Q_BV]
    c = 1.0 - u - v
    # The normals lie farthest away: their reading is begun first, and goes on beside what follows.
    normals = f32_at(w[W_NORMALS] + 12 * at[P_VERTEX])
    sx = c * normals[3 * k0] + u * normals[3 * k1] + v * normals[3 * k2]
    sy = c * normals[3 * k0 + 1] + u * normals[3 * k1 + 1] + v * normals[3 * k2 + 1]
    sz = c * normals[3 * k0 + 2] + u * normals[3 * k1 + 2] + v * normals[3 * k2 + 2]
    (ax, ay, az), edge, other = corner_and_edges(w, np.int64(q[Q_SLOT]))
    (e1x, e1y, e1z), (e2x, e2y, e2z) = edge, other
    x, y, z = ax + u * e1x + v * e2x, ay + u * e1y + v * e2y, az + u * e1z + v * e2z
    # How far off the surface the next ray starts: what float32 may err in the object's own space
    # (the corners' distance from its origin, in units in the last place), carried into the world.
    reach = max(abs(x), max(abs(y), abs(z))) + max(
        abs(e1x) + abs(e2x), max(abs(e1y) + abs(e2y), abs(e1z) + abs(e2z))
    )
    q[Q_RAY_EPSILON] = reach * f64_at(w[W_SIZES])[np.int64(q[Q_INSTANCE])] * 1.5e-6 + 1e-9
    normal, hand = (sx, sy, sz), 1.0
    if at[P_FLAGS] & PLAIN == 0:
        i = j = np.int64(q[Q_INSTANCE]) * 12
        m, back = f64_at(w[W_TO_WORLD]), f64_at(w[W_TO_OBJECT])
        if at[P_MOVE] >= 0:
            moving_matrices(w, q, at[P_MOVE])
            m, i, back, j = thread_of(q), T_MATRIX + 12, thread_of(q), T_MATRIX
        x, y, z = turned(m, i, x, y, z)
        x, y, z = x + m[i + 3], y + m[i + 7], z + m[i + 11]
        edge, other = turned(m, i, e1x, e1y, e1z), turned(m, i, e2x, e2y, e2z)
        # Normals go by the inverse transpose, whose rows are the columns of world-to-object.
        normal = (
            back[j] * sx + back[j + 4] * sy + back[j + 8] * sz,
            back[j + 1] * sx + back[j + 5] * sy + back[j + 9] * sz,
            back[j + 2] * sx + back[j + 6] * sy + back[j + 10] * sz,
        )
        hand = _hand(m, i)
    q[Q_PX], q[Q_PY], q[Q_PZ] = x, y, z
    q[Q_EDGE_X], q[Q_EDGE_Y], q[Q_EDGE_Z] = edge
    q[Q_OTHER_X], q[Q_OTHER_Y], q[Q_OTHER_Z] = other
    q[Q_NX], q[Q_NY], q[Q_NZ] = normal
    q[Q_HAND] = hand


@inner
def _hand(m: Any, i: int) -> float:
    """-1 where a placement mirrors, which turns the order of the corners round; or else 1."""
    across = m[i + 5] * m[i + 10] - m[i + 6] * m[i + 9]
    upwards = m[i + 6] * m[i + 8] - m[i + 4] * m[i + 10]
    along = m[i + 4] * m[i + 9] - m[i + 5] * m[i + 8]
    return -1.0 if m[i] * across + m[i + 1] * upwards + m[i + 2] * along < 0 else 1.0


@linked
def _read_tint(w: Any, q: Any, at: Any, k0: int, k1: int, k2: int) -> None:
    """The colour of the vertices where one path's ray hits."""
    u, v = q[Q_BU], q[Q_BV]
    c = 1.0 - u - v
    tint = f32_at(w[W_COLORS] + 16 * at[P_COLOR])
    q[Q_TINT_R] = c * tint[4 * k0] + u * tint[4 * k1] + v * tint[4 * k2]
    q[Q_TINT_G] = c * tint[4 * k0 + 1] + u * tint[4 * k1 + 1] + v * tint[4 * k2 + 1]
    q[Q_TINT_B] = c * tint[4 * k0 + 2] + u * tint[4 * k1 + 2] + v * tint[4 * k2 + 2]
    q[Q_TINT_A] = c * tint[4 * k0 + 3] + u * tint[4 * k1 + 3] + v * tint[4 * k2 + 3]


@inner
def _dither(p: Any) -> Any:
    """A number in [0, 1] of each path's own, spread evenly over the samples of a pixel: of the two
    levels around one is read, as often as it is near (stochastic filtering).

    The golden ratio's multiples (Weyl), begun at a hash of the pixel and of the event.
    """
    event = take_wholes(p, Q_DIM) * GOLDEN
    start = mix(u32(take_wholes(p, Q_SEED) + event))
    return as_floats(u32(start + take_wholes(p, Q_INDEX) * GOLDEN)) * F(UNIT)


@inner
def _lay(uvs: Any, k0: int, k1: int, k2: int, u: float, v: float) -> Any:
    """Where a hit lies on the texture, and twice the triangle's area there, with its sign."""
    u0, v0 = np.float64(uvs[2 * k0]), np.float64(uvs[2 * k0 + 1])
    du1, dv1 = uvs[2 * k1] - u0, uvs[2 * k1 + 1] - v0
    du2, dv2 = uvs[2 * k2] - u0, uvs[2 * k2 + 1] - v0
    return u0 + u * du1 + v * du2, v0 + u * dv1 + v * dv2, du1 * dv2 - du2 * dv1


@inner
def _level(det: Any, per_area: Any, narrow: Any) -> Any:
    """The mip level from a ray cone, the texture's own size left out (Akenine-Moeller et al. 2019,
    equation 34).
    """
    covered = most(size_of(det), F(1e-30)) * per_area * narrow * narrow
    return F(0.5) * base2(most(covered, F(1e-37)))


@linked
def _turn_tangent(p: Any, n: Vec3, stretched: int, leaning: int) -> None:
    """The tangent as an angle in the frame that the shading normal has."""
    (sx, sy, sz), (tx, ty, tz) = frame(n.x, n.y, n.z)
    t = vector_at(p, Q_TANGENT_X)
    x, y = dot(Vec3(sx, sy, sz), t), dot(Vec3(tx, ty, tz), t)
    length = root(x * x + y * y)
    known = mask_of(leaning) & (length > F(0))
    k = F(1) / where(known, length, F(1))
    mask = mask_of(stretched)
    put(p, Q_TURN_COSINE, where(known, x * k, F(1)), mask)
    put(p, Q_TURN_SINE, where(known, y * k, F(0)), mask)


@linked
def _bump(w: Any, p: Any, mapped: int, n: Vec3, t: Vec3, hand: Any) -> Any:
    """The normals of normal maps:

    red along the tangent, green along rising V, which runs down the picture in glTF.
    """
    left = mapped
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        material = np.int64(q[Q_MATERIAL])
        r, g, z, _ = texel(w, q, material, NORMAL, False)
        scale = factors_of(w, material)[M_NORMAL_SCALE]
        # In the place of what was read of the triangle.
        q[Q_EDGE_X], q[Q_EDGE_Y] = (2 * r - 1) * scale, (2 * g - 1) * scale
        q[Q_EDGE_Z] = max(2 * z - 1, 0.01)
    bent = vector_at(p, Q_EDGE_X)
    t = unit(plus(t, times(n, F(0) - dot(t, n))))
    # Green points against the picture's V: bitangent = n x t for an unmirrored layout (glTF 2.0,
    # section 3.7.2.1).
    b = times(cross(n, t), F(0) - hand)
    return unit(out_of((t, b, n), bent))


@linked
def least_height(w: Any, q: Any) -> float:
    """The smallest height of the hit triangle, in the object's own lengths: about how wide
    it is.
    """
    _, (ax, ay, az), (bx, by, bz) = corner_and_edges(w, np.int64(q[Q_SLOT]))
    cx, cy, cz = bx - ax, by - ay, bz - az
    nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    longest = max(
        ax * ax + ay * ay + az * az, max(bx * bx + by * by + bz * bz, cx * cx + cy * cy + cz * cz)
    )
    return math.sqrt((nx * nx + ny * ny + nz * nz) / max(longest, 1e-30))
