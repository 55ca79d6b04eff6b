"""What a ray finds where it hits: place, normals, and the material with its textures read."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from mill_lane.core.render import world as w
from mill_lane.core.render.jit import lean
from mill_lane.core.render.texture import lookup

BASE, ROUGH, NORMAL, EMISSION, TRANSMISSION = w.BASE, w.ROUGH, w.NORMAL, w.EMISSION, w.TRANSMISSION
M_RED, M_ALPHA, M_METALLIC, M_ROUGH, M_EMIT_R = w.M_RED, w.M_ALPHA, w.M_METALLIC, w.M_ROUGH, w.M_EMIT_R
M_TRANSMIT, M_NORMAL_SCALE, M_MODE, M_CUTOFF = w.M_TRANSMIT, w.M_NORMAL_SCALE, w.M_MODE, w.M_CUTOFF
MASK, OPAQUE = w.MASK, w.OPAQUE


class Hit(NamedTuple):
    """A place on a surface.  `normal` faces the ray and shades; `flat` is the triangle's own, facing the ray."""

    p: Any
    flat: Any
    normal: Any
    front: Any  # 1.0 when the ray came from outside
    material: Any
    u: Any
    v: Any
    level: Any  # texels per pixel as log2, for a texture of one texel


@lean
def _unit(x: float, y: float, z: float) -> Any:
    n = math.sqrt(x * x + y * y + z * z)
    return (x / n, y / n, z / n) if n > 0 else (0.0, 1.0, 0.0)


@lean
def _normal_to_world(m: Any, i: int, x: float, y: float, z: float) -> Any:
    """By the inverse transpose, whose rows are the columns of world-to-object."""
    return _unit(
        m[i, 0] * x + m[i, 4] * y + m[i, 8] * z,
        m[i, 1] * x + m[i, 5] * y + m[i, 9] * z,
        m[i, 2] * x + m[i, 6] * y + m[i, 10] * z,
    )


@lean
def place(world: Any, triangle: int, inst: int, u: float, v: float, d: Any, cone: float) -> Any:
    """The `Hit` of a ray of direction d and cone width `cone` (metres)."""
    a, s = world.accel, world.surfaces
    i, j, k = np.int64(a.triangles[triangle, 0]), np.int64(a.triangles[triangle, 1]), np.int64(a.triangles[triangle, 2])
    part, material = s.instances[inst, 0], s.instances[inst, 1]
    c = 1.0 - u - v
    p0x, p0y, p0z = np.float64(a.positions[i, 0]), np.float64(a.positions[i, 1]), np.float64(a.positions[i, 2])
    e1x, e1y, e1z = a.positions[j, 0] - p0x, a.positions[j, 1] - p0y, a.positions[j, 2] - p0z
    e2x, e2y, e2z = a.positions[k, 0] - p0x, a.positions[k, 1] - p0y, a.positions[k, 2] - p0z
    lx, ly, lz = p0x + u * e1x + v * e2x, p0y + u * e1y + v * e2y, p0z + u * e1z + v * e2z
    m = s.to_world
    p = (
        m[inst, 0] * lx + m[inst, 1] * ly + m[inst, 2] * lz + m[inst, 3],
        m[inst, 4] * lx + m[inst, 5] * ly + m[inst, 6] * lz + m[inst, 7],
        m[inst, 8] * lx + m[inst, 9] * ly + m[inst, 10] * lz + m[inst, 11],
    )
    flat = _normal_to_world(a.to_object, inst, e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x)
    n = s.normals
    normal = _normal_to_world(
        a.to_object, inst,
        c * n[i, 0] + u * n[j, 0] + v * n[k, 0],
        c * n[i, 1] + u * n[j, 1] + v * n[k, 1],
        c * n[i, 2] + u * n[j, 2] + v * n[k, 2],
    )  # fmt: skip
    tu, tv, level = 0.0, 0.0, 0.0
    first_uv = s.parts[part, 1]
    facing = flat[0] * d[0] + flat[1] * d[1] + flat[2] * d[2]
    if first_uv >= 0:
        shift = first_uv - s.parts[part, 0]
        q = s.uvs
        u0, v0 = np.float64(q[i + shift, 0]), np.float64(q[i + shift, 1])
        du1, dv1 = q[j + shift, 0] - u0, q[j + shift, 1] - v0
        du2, dv2 = q[k + shift, 0] - u0, q[k + shift, 1] - v0
        tu, tv = u0 + u * du1 + v * du2, v0 + u * dv1 + v * dv2
        # Edges in the world: for areas, and for the tangent that a normal map is laid along.
        ax, ay, az = (
            m[inst, 0] * e1x + m[inst, 1] * e1y + m[inst, 2] * e1z,
            m[inst, 4] * e1x + m[inst, 5] * e1y + m[inst, 6] * e1z,
            m[inst, 8] * e1x + m[inst, 9] * e1y + m[inst, 10] * e1z,
        )
        bx, by, bz = (
            m[inst, 0] * e2x + m[inst, 1] * e2y + m[inst, 2] * e2z,
            m[inst, 4] * e2x + m[inst, 5] * e2y + m[inst, 6] * e2z,
            m[inst, 8] * e2x + m[inst, 9] * e2y + m[inst, 10] * e2z,
        )
        cx, cy, cz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
        area = math.sqrt(cx * cx + cy * cy + cz * cz)
        det = du1 * dv2 - du2 * dv1
        # Mip level from a ray cone (Akenine-Moeller et al. 2019, equation 34), the texture's own size left out.
        level = 0.5 * math.log2(max(abs(det), 1e-30) / max(area, 1e-30))
        level += math.log2(max(cone, 1e-12) / max(abs(facing), 0.05))
        if world.surfaces.slots[material, NORMAL] >= 0 and abs(det) > 1e-20:
            tx, ty, tz = dv2 * ax - dv1 * bx, dv2 * ay - dv1 * by, dv2 * az - dv1 * bz
            if det < 0:
                tx, ty, tz = -tx, -ty, -tz
            normal = _bump(world, material, tu, tv, level, normal, tx, ty, tz, -1.0 if det < 0 else 1.0)
    front = 1.0
    if facing > 0:
        front = -1.0
        flat = (-flat[0], -flat[1], -flat[2])
        normal = (-normal[0], -normal[1], -normal[2])
    if normal[0] * flat[0] + normal[1] * flat[1] + normal[2] * flat[2] < 0.02:
        normal = flat
    # A bent normal may face away from the ray where the surface does not: lean it back until it just faces it.
    back = normal[0] * d[0] + normal[1] * d[1] + normal[2] * d[2]
    if back > -0.01:
        t = back + 0.01
        normal = _unit(normal[0] - t * d[0], normal[1] - t * d[1], normal[2] - t * d[2])
        if normal[0] * flat[0] + normal[1] * flat[1] + normal[2] * flat[2] < 0.02:
            normal = flat
    return Hit(p, flat, normal, front, material, tu, tv, level)


@lean
def _bump(
    world: Any, material: int, u: float, v: float, level: float, n: Any, tx: float, ty: float, tz: float, hand: float
) -> Any:
    """The normal map's normal: red along the tangent, green along rising V, which runs down the picture in glTF."""
    along = tx * n[0] + ty * n[1] + tz * n[2]
    t = _unit(tx - along * n[0], ty - along * n[1], tz - along * n[2])
    # Green points against the picture's V: bitangent = n x t for an unmirrored layout (glTF 2.0, section 3.7.2.1).
    b = (n[1] * t[2] - n[2] * t[1], n[2] * t[0] - n[0] * t[2], n[0] * t[1] - n[1] * t[0])
    r, g, z, _ = texel(world, material, NORMAL, u, v, level, False)
    k = world.surfaces.factors[material, M_NORMAL_SCALE]
    x, y, z = (2 * r - 1) * k, -(2 * g - 1) * k * hand, max(2 * z - 1, 0.01)
    return _unit(
        x * t[0] + y * b[0] + z * n[0],
        x * t[1] + y * b[1] + z * n[1],
        x * t[2] + y * b[2] + z * n[2],
    )


@lean
def texel(world: Any, material: int, slot: int, u: float, v: float, level: float, srgb: bool) -> Any:
    """A texture slot at the vertex UV, through its transform; white where the slot is empty."""
    s = world.surfaces
    index = s.slots[material, slot]
    if index < 0:
        return 1.0, 1.0, 1.0, 1.0
    m = s.transforms[material, slot]
    row = world.textures.table[index]
    size = 0.5 * math.log2(float(row[2] * row[3]) * max(abs(m[0] * m[4] - m[1] * m[3]), 1e-12))
    return lookup(world.textures, index, m[0] * u + m[1] * v + m[2], m[3] * u + m[4] * v + m[5], level + size, srgb)


@lean
def base_colour(world: Any, hit: Any) -> Any:
    """Red, green, blue and the coverage after the alpha mode."""
    f = world.surfaces.factors[hit.material]
    r, g, b, a = texel(world, hit.material, BASE, hit.u, hit.v, hit.level, True)
    cover = a * f[M_ALPHA]
    mode = int(f[M_MODE])
    if mode == OPAQUE:
        cover = 1.0
    elif mode == MASK:
        cover = 1.0 if cover >= f[M_CUTOFF] else 0.0
    return r * f[M_RED], g * f[M_RED + 1], b * f[M_RED + 2], min(max(cover, 0.0), 1.0)


@lean
def metal_and_rough(world: Any, hit: Any) -> Any:
    """Metallic in 0 to 1, and alpha = roughness squared, kept above what sampling can follow."""
    f = world.surfaces.factors[hit.material]
    _, g, b, _ = texel(world, hit.material, ROUGH, hit.u, hit.v, hit.level, False)
    rough = g * f[M_ROUGH]
    return min(max(b * f[M_METALLIC], 0.0), 1.0), max(rough * rough, 1e-3)


@lean
def emitted(world: Any, material: int, u: float, v: float, level: float) -> Any:
    """Radiance given off."""
    f = world.surfaces.factors[material]
    if f[M_EMIT_R] <= 0 and f[M_EMIT_R + 1] <= 0 and f[M_EMIT_R + 2] <= 0:
        return 0.0, 0.0, 0.0
    r, g, b, _ = texel(world, material, EMISSION, u, v, level, True)
    return r * f[M_EMIT_R], g * f[M_EMIT_R + 1], b * f[M_EMIT_R + 2]


@lean
def transmitted(world: Any, hit: Any) -> float:
    """The share of the dielectric that is clear."""
    f = world.surfaces.factors[hit.material]
    if f[M_TRANSMIT] <= 0:
        return 0.0
    r, _, _, _ = texel(world, hit.material, TRANSMISSION, hit.u, hit.v, hit.level, False)
    return r * f[M_TRANSMIT]
