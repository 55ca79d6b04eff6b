"""What a ray finds where it hits: place, normals, and where on the textures it lies.

Everything is written to the event's slots of the path (`slots.Q_PX` and on).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render.build import LEAF, NUMBERS
from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.materials import factors_of, texel
from mill_lane.core.render.microfacet import frame
from mill_lane.core.render.pointers import as_i32, f32_at, f64_at, i64_at, u32_at
from mill_lane.core.render.quick import base2
from mill_lane.core.render.sampler import mix
from mill_lane.core.render.side_by_side import thread_of
from mill_lane.core.render.slots import *
from mill_lane.core.render.traverse import moving_matrices

LONGEST = 16.0  # of what a pixel covers on a surface, the wide side over the narrow one


@inner
def unit(x: float, y: float, z: float) -> Any:
    """The vector of length 1 along (x, y, z); straight up for one of no length."""
    n = x * x + y * y + z * z
    if n <= 0:
        return 0.0, 1.0, 0.0
    k = 1.0 / math.sqrt(n)
    return x * k, y * k, z * k


@inner
def _normal_to_world(m: Any, i: int, x: float, y: float, z: float) -> Any:
    """By the inverse transpose, whose rows are the columns of world-to-object."""
    return unit(
        m[i] * x + m[i + 4] * y + m[i + 8] * z,
        m[i + 1] * x + m[i + 5] * y + m[i + 9] * z,
        m[i + 2] * x + m[i + 6] * y + m[i + 10] * z,
    )


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
def place(w: Any, q: Any, cone: float) -> None:
    """Where the ray's hit lies and how it is turned; `cone` is the ray's width there in metres."""
    at = i64_at(w[W_INSTANCES] + 8 * INSTANCE_COLUMNS * np.int64(q[Q_INSTANCE]))
    slot = np.int64(q[Q_SLOT])
    u, v = q[Q_BU], q[Q_BV]
    c = 1.0 - u - v
    k0, k1, k2 = corner_numbers(w, at[P_TRIANGLE], slot)
    # The normals lie farthest away: their reading is begun first, and goes on beside what follows.
    normals = f32_at(w[W_NORMALS] + 12 * at[P_VERTEX])
    sx = c * normals[3 * k0] + u * normals[3 * k1] + v * normals[3 * k2]
    sy = c * normals[3 * k0 + 1] + u * normals[3 * k1 + 1] + v * normals[3 * k2 + 1]
    sz = c * normals[3 * k0 + 2] + u * normals[3 * k1 + 2] + v * normals[3 * k2 + 2]
    (p0x, p0y, p0z), (e1x, e1y, e1z), (e2x, e2y, e2z) = corner_and_edges(w, slot)
    lx, ly, lz = p0x + u * e1x + v * e2x, p0y + u * e1y + v * e2y, p0z + u * e1z + v * e2z
    if at[P_MOVE] >= 0:
        moving_matrices(w, q, at[P_MOVE])
        m, i, back, j = thread_of(q), T_MATRIX + 12, thread_of(q), T_MATRIX
    else:
        m, i, back, j = (
            f64_at(w[W_TO_WORLD]),
            np.int64(q[Q_INSTANCE]) * 12,
            f64_at(w[W_TO_OBJECT]),
            np.int64(q[Q_INSTANCE]) * 12,
        )
    q[Q_PX] = m[i] * lx + m[i + 1] * ly + m[i + 2] * lz + m[i + 3]
    q[Q_PY] = m[i + 4] * lx + m[i + 5] * ly + m[i + 6] * lz + m[i + 7]
    q[Q_PZ] = m[i + 8] * lx + m[i + 9] * ly + m[i + 10] * lz + m[i + 11]
    # Edges in the world.
    (ax, ay, az), (bx, by, bz) = turned(m, i, e1x, e1y, e1z), turned(m, i, e2x, e2y, e2z)
    # How far off the surface the next ray starts: what float32 may err in the object's own space
    # (the corners' distance from its origin, in units in the last place), carried into the world.
    own = max(abs(lx), max(abs(ly), abs(lz))) + max(
        abs(e1x) + abs(e2x), max(abs(e1y) + abs(e2y), abs(e1z) + abs(e2z))
    )
    q[Q_RAY_EPSILON] = own * f64_at(w[W_SIZES])[np.int64(q[Q_INSTANCE])] * 1.5e-6 + 1e-9
    fx, fy, fz = _normal_to_world(
        back, j, e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x
    )
    nx, ny, nz = _normal_to_world(back, j, sx, sy, sz)
    material = at[P_MATERIAL]
    q[Q_MATERIAL] = material
    dx, dy, dz = q[Q_DX], q[Q_DY], q[Q_DZ]
    facing = fx * dx + fy * dy + fz * dz
    textures = i64_at(w[W_SLOTS] + 8 * TEXTURE_SLOTS * material)
    q[Q_U], q[Q_V], q[Q_LEVEL] = 0.0, 0.0, 0.0
    q[Q_TINT_R], q[Q_TINT_G], q[Q_TINT_B], q[Q_TINT_A] = 1.0, 1.0, 1.0, 1.0
    if at[P_COLOR] >= 0:
        tint = f32_at(w[W_COLORS] + 16 * at[P_COLOR])
        q[Q_TINT_R] = c * tint[4 * k0] + u * tint[4 * k1] + v * tint[4 * k2]
        q[Q_TINT_G] = c * tint[4 * k0 + 1] + u * tint[4 * k1 + 1] + v * tint[4 * k2 + 1]
        q[Q_TINT_B] = c * tint[4 * k0 + 2] + u * tint[4 * k1 + 2] + v * tint[4 * k2 + 2]
        q[Q_TINT_A] = c * tint[4 * k0 + 3] + u * tint[4 * k1 + 3] + v * tint[4 * k2 + 3]
    tangent = False
    if (at[P_UV] >= 0 or at[P_UV_SECOND] >= 0) and factors_of(w, material)[M_TEXTURED] > 0:
        cx, cy, cz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
        area = max(math.sqrt(cx * cx + cy * cy + cz * cz), 1e-30)
        # The narrow side of what a pixel covers chooses the mip level: along the wide side the
        # pixel's samples lie apart and average.  Beyond 16 to 1 their number would not do.
        narrow = max(cone, 1e-12) * max(1.0, 1.0 / (LONGEST * max(abs(facing), 1e-3)))
        # One of the two levels around, as often as it is near (stochastic filtering): the mean is
        # that of reading both.
        dither = _dither(q)
        if at[P_UV_SECOND] >= 0:
            uvs = f32_at(w[W_UVS] + 8 * at[P_UV_SECOND])
            q[Q_U_SECOND], q[Q_V_SECOND], det = _lay(uvs, k0, k1, k2, u, v)
            q[Q_LEVEL_SECOND] = _level(det, area, narrow) + dither
        if at[P_UV] >= 0:
            uvs = f32_at(w[W_UVS] + 8 * at[P_UV])
            q[Q_U], q[Q_V], det = _lay(uvs, k0, k1, k2, u, v)
            q[Q_LEVEL] = _level(det, area, narrow) + dither
            layered = factors_of(w, material)[M_ANISOTROPY] > 0
            if (textures[NORMAL] >= 0 or layered) and abs(det) > 1e-20:
                tangent = layered
                if textures[NORMAL] >= 0 and at[P_UV_SECOND] >= 0:
                    use = f64_at(w[W_UV_TRANSFORMS])
                    if use[(material * TEXTURE_SLOTS + NORMAL) * USE_COLUMNS + U_SET] > 0:
                        uvs = f32_at(w[W_UVS] + 8 * at[P_UV_SECOND])
                        _, _, det = _lay(uvs, k0, k1, k2, u, v)
                dv1, dv2 = uvs[2 * k1 + 1] - uvs[2 * k0 + 1], uvs[2 * k2 + 1] - uvs[2 * k0 + 1]
                hand = -1.0 if det < 0 else 1.0
                tx = hand * (dv2 * ax - dv1 * bx)
                ty = hand * (dv2 * ay - dv1 * by)
                tz = hand * (dv2 * az - dv1 * bz)
                q[Q_TANGENT_X], q[Q_TANGENT_Y], q[Q_TANGENT_Z] = tx, ty, tz
                if textures[NORMAL] >= 0:
                    nx, ny, nz = _bump(w, q, material, nx, ny, nz, tx, ty, tz, hand)
    q[Q_FRONT] = 1.0
    if facing > 0:
        q[Q_FRONT] = -1.0
        fx, fy, fz = -fx, -fy, -fz
        nx, ny, nz = -nx, -ny, -nz
    if nx * fx + ny * fy + nz * fz < 0.02:
        nx, ny, nz = fx, fy, fz
    # A bent normal may face away from the ray where the surface does not: lean it back until it
    # just faces it.
    away = nx * dx + ny * dy + nz * dz
    if away > -0.01:
        t = away + 0.01
        nx, ny, nz = unit(nx - t * dx, ny - t * dy, nz - t * dz)
        if nx * fx + ny * fy + nz * fz < 0.02:
            nx, ny, nz = fx, fy, fz
    q[Q_GX], q[Q_GY], q[Q_GZ] = fx, fy, fz
    q[Q_NX], q[Q_NY], q[Q_NZ] = nx, ny, nz
    if factors_of(w, material)[M_ANISOTROPY] > 0:
        q[Q_TURN_COSINE], q[Q_TURN_SINE] = 1.0, 0.0
        if tangent:
            _turn_tangent(q)


@inner
def _dither(q: Any) -> float:
    """A number in [0, 1) of the path's own, spread evenly over the samples of a pixel.

    The golden ratio's multiples (Weyl), begun at a hash of the pixel and of the event.
    """
    event = np.uint32(np.uint32(np.int64(q[Q_DIM])) * np.uint32(0x9E3779B9))
    start = mix(np.uint32(np.uint32(q[Q_SEED]) + event))
    x = np.float64(start) * 2.3283064365386963e-10 + q[Q_INDEX] * 0.6180339887498949
    return x - math.floor(x)


@inner
def _lay(uvs: Any, k0: int, k1: int, k2: int, u: float, v: float) -> Any:
    """Where a hit lies on the texture, and twice the triangle's area there, with its sign."""
    u0, v0 = np.float64(uvs[2 * k0]), np.float64(uvs[2 * k0 + 1])
    du1, dv1 = uvs[2 * k1] - u0, uvs[2 * k1 + 1] - v0
    du2, dv2 = uvs[2 * k2] - u0, uvs[2 * k2 + 1] - v0
    return u0 + u * du1 + v * du2, v0 + u * dv1 + v * dv2, du1 * dv2 - du2 * dv1


@inner
def _level(det: float, area: float, narrow: float) -> float:
    """The mip level from a ray cone, the texture's own size left out (Akenine-Moeller et al. 2019,
    equation 34).
    """
    return 0.5 * base2(max(abs(det), 1e-30) / area * narrow * narrow)


@linked
def _turn_tangent(q: Any) -> None:
    """The tangent as an angle in the frame that the shading normal has."""
    (sx, sy, sz), (tx, ty, tz) = frame(q[Q_NX], q[Q_NY], q[Q_NZ])
    x = sx * q[Q_TANGENT_X] + sy * q[Q_TANGENT_Y] + sz * q[Q_TANGENT_Z]
    y = tx * q[Q_TANGENT_X] + ty * q[Q_TANGENT_Y] + tz * q[Q_TANGENT_Z]
    length = math.sqrt(x * x + y * y)
    if length > 0:
        q[Q_TURN_COSINE], q[Q_TURN_SINE] = x / length, y / length


@linked
def _bump(
    w: Any,
    q: Any,
    material: int,
    nx: float,
    ny: float,
    nz: float,
    tx: float,
    ty: float,
    tz: float,
    hand: float,
) -> Any:
    """The normal map's normal:

    red along the tangent, green along rising V, which runs down the picture in glTF.
    """
    along = tx * nx + ty * ny + tz * nz
    tx, ty, tz = unit(tx - along * nx, ty - along * ny, tz - along * nz)
    # Green points against the picture's V: bitangent = n x t for an unmirrored layout (glTF 2.0,
    # section 3.7.2.1).
    bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
    r, g, z, _ = texel(w, q, material, NORMAL, False)
    k = factors_of(w, material)[M_NORMAL_SCALE]
    x, y, z = (2 * r - 1) * k, -(2 * g - 1) * k * hand, max(2 * z - 1, 0.01)
    return unit(x * tx + y * bx + z * nx, x * ty + y * by + z * ny, x * tz + y * bz + z * nz)


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
