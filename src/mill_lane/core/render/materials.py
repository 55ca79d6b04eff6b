"""Materials where a ray hit: their textures read, their factors multiplied in.

Everything is written to the event's slots of the path (`slots.Q_BR` and on).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.microfacet import SMOOTHEST
from mill_lane.core.render.pointers import f64_at, i64_at
from mill_lane.core.render.slots import *
from mill_lane.core.render.texture import lookup


@inner
def factors_of(w: Any, material: int) -> Any:
    """The row of a material's factors."""
    return f64_at(w[W_FACTORS] + 8 * FACTORS * material)


@linked
def texel(w: Any, q: Any, material: int, slot: int, srgb: bool) -> Any:
    """A texture slot at the event's UV, through its transform; white where the slot is empty."""
    index = i64_at(w[W_SLOTS])[material * TEXTURE_SLOTS + slot]
    if index < 0:
        return 1.0, 1.0, 1.0, 1.0
    m = f64_at(w[W_UV_TRANSFORMS] + 8 * USE_COLUMNS * (material * TEXTURE_SLOTS + slot))
    u, v, level = q[Q_U], q[Q_V], q[Q_LEVEL]
    if m[U_SET] > 0:
        u, v, level = q[Q_U_SECOND], q[Q_V_SECOND], q[Q_LEVEL_SECOND]
    return lookup(
        w,
        q,
        index,
        m[0] * u + m[1] * v + m[2],
        m[3] * u + m[4] * v + m[5],
        level + m[U_LEVEL],
        srgb,
    )


@linked
def read_cover(w: Any, q: Any) -> None:
    """Base colour, and the coverage after the alpha mode."""
    material = np.int64(q[Q_MATERIAL])
    f = factors_of(w, material)
    r, g, b, a = texel(w, q, material, BASE, True)
    cover = a * f[M_ALPHA] * q[Q_TINT_A]
    mode = np.int64(f[M_MODE])
    if mode == OPAQUE:
        cover = 1.0
    elif mode == MASK:
        cover = 1.0 if cover >= f[M_CUTOFF] else 0.0
    q[Q_BR], q[Q_BG], q[Q_BB], q[Q_COVER] = (
        r * f[M_RED] * q[Q_TINT_R],
        g * f[M_RED + 1] * q[Q_TINT_G],
        b * f[M_RED + 2] * q[Q_TINT_B],
        min(max(cover, 0.0), 1.0),
    )


@linked
def read_material(w: Any, q: Any) -> None:
    """Everything else of the material: metal, roughness (GGX's alpha), clear share, coat, index."""
    q[Q_SHADES] += 1.0
    material = np.int64(q[Q_MATERIAL])
    f = factors_of(w, material)
    _, g, b, _ = texel(w, q, material, ROUGH, False)
    rough = g * f[M_ROUGH]
    q[Q_METAL], q[Q_ROUGHNESS], q[Q_ETA] = (
        min(max(b * f[M_METALLIC], 0.0), 1.0),
        max(rough * rough, SMOOTHEST),
        f[M_IOR],
    )
    q[Q_CLEAR], q[Q_COAT], q[Q_COAT_ALPHA] = 0.0, 0.0, SMOOTHEST
    q[Q_SPECULAR], q[Q_SHEEN_MOST], q[Q_ALONG] = -1.0, 0.0, 0.0
    if f[M_TRANSMIT] > 0:
        r, _, _, _ = texel(w, q, material, TRANSMISSION, False)
        q[Q_CLEAR] = r * f[M_TRANSMIT] * (1.0 - q[Q_METAL])
    if f[M_COAT] > 0:
        r, _, _, _ = texel(w, q, material, COAT, False)
        _, g, _, _ = texel(w, q, material, COAT_ROUGH, False)
        rough = g * f[M_COAT_ROUGH]
        q[Q_COAT], q[Q_COAT_ALPHA] = r * f[M_COAT], max(rough * rough, SMOOTHEST)
    if f[M_LAYERED] > 0:
        _read_layers(w, q, f, material)


@linked
def _read_layers(w: Any, q: Any, f: Any, material: int) -> None:
    """Specular share and tint, sheen, anisotropy (the KHR_materials extensions of these names)."""
    _, _, _, a = texel(w, q, material, SPECULAR_SHARE, False)
    q[Q_SPECULAR] = a * f[M_SPECULAR]
    r, g, b, _ = texel(w, q, material, SPECULAR_TINT, True)
    q[Q_SPECULAR_R] = r * f[M_SPECULAR_R]
    q[Q_SPECULAR_G] = g * f[M_SPECULAR_G]
    q[Q_SPECULAR_B] = b * f[M_SPECULAR_B]
    if f[M_SHEEN_R] + f[M_SHEEN_G] + f[M_SHEEN_B] > 0:
        r, g, b, _ = texel(w, q, material, SHEEN_TINT, True)
        _, _, _, a = texel(w, q, material, SHEEN_ROUGH, False)
        r, g, b = r * f[M_SHEEN_R], g * f[M_SHEEN_G], b * f[M_SHEEN_B]
        rough = a * f[M_SHEEN_ROUGH]
        q[Q_SHEEN_R], q[Q_SHEEN_G], q[Q_SHEEN_B] = r, g, b
        q[Q_SHEEN_MOST], q[Q_SHEEN_ALPHA] = max(r, max(g, b)), max(rough * rough, SMOOTHEST)
        q[Q_SHEEN_TABLE] = np.float64(w[W_SHEEN])
    if f[M_ANISOTROPY] > 0:
        strength, c, s = (
            f[M_ANISOTROPY],
            math.cos(f[M_ANISOTROPY_TURN]),
            math.sin(f[M_ANISOTROPY_TURN]),
        )
        if i64_at(w[W_SLOTS])[material * TEXTURE_SLOTS + ANISOTROPY] >= 0:
            # Red and green point along the tangent, blue is the strength.
            r, g, b, _ = texel(w, q, material, ANISOTROPY, False)
            x, y = 2 * r - 1, 2 * g - 1
            length = math.sqrt(x * x + y * y)
            if length > 1e-6:
                x, y = x / length, y / length
                c, s = c * x - s * y, s * x + c * y
            strength *= b
        # The frame has its y along n x t, the texture's bitangent runs against V like it.
        k, j = q[Q_TURN_COSINE], q[Q_TURN_SINE]
        q[Q_TURN_COSINE], q[Q_TURN_SINE] = k * c - j * s, j * c + k * s
        q[Q_ALONG] = q[Q_ROUGHNESS] + (1.0 - q[Q_ROUGHNESS]) * strength * strength


@linked
def emitted(w: Any, q: Any, material: int) -> Any:
    """Radiance given off at the event's UV."""
    f = factors_of(w, material)
    if f[M_EMIT_R] <= 0 and f[M_EMIT_R + 1] <= 0 and f[M_EMIT_R + 2] <= 0:
        return 0.0, 0.0, 0.0
    r, g, b, _ = texel(w, q, material, EMISSION, True)
    return r * f[M_EMIT_R], g * f[M_EMIT_R + 1], b * f[M_EMIT_R + 2]
