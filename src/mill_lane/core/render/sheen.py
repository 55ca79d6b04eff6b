"""The sheen of cloth (KHR_materials_sheen): light caught by fibres that stand up.

The distribution and the fit of its shadowing are Estevez and Kulla, "Production Friendly Microfacet
Sheen BRDF" (2017), as the extension gives them.  How much light the fibres take from what lies
below them is the integral of the lobe, in a table by cosine and roughness.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render.jit import inner, kernel, linked
from mill_lane.core.render.pointers import f64_at

PI = math.pi
SIDE = 32  # entries of the table along either axis
ROUGHEST, SMOOTHEST = 1.0, 1e-3  # of the lobe's alpha
STEPS = 48  # of the integral, by height and round


@inner
def _fit(x: float, alpha: float) -> Any:
    k = (1.0 - alpha) * (1.0 - alpha)
    a = 25.3245 + (21.5473 - 25.3245) * k
    b = 3.32435 + (3.82987 - 3.32435) * k
    c = 0.16801 + (0.19823 - 0.16801) * k
    d = -1.27393 + (-1.97760 + 1.27393) * k
    e = -4.85967 + (-4.32054 + 4.85967) * k
    return a / (1.0 + b * x**c) + d * x + e


@inner
def _lambda(cosine: float, alpha: float) -> Any:
    if cosine < 0.5:
        return math.exp(_fit(cosine, alpha))
    return math.exp(2.0 * _fit(0.5, alpha) - _fit(1.0 - cosine, alpha))


@linked
def sheen_lobe(vz: float, wz: float, hz: float, alpha: float) -> float:
    """The lobe times the cosine of w, without its colour; v and w on the same side."""
    sine2 = max(1.0 - hz * hz, 1e-9)
    density = (2.0 + 1.0 / alpha) * sine2 ** (0.5 / alpha) / (2.0 * PI)
    return density / ((1.0 + _lambda(vz, alpha) + _lambda(wz, alpha)) * 4.0 * max(vz, 1e-4))


@kernel
def _integrate(out: Any, steps: int) -> None:
    """Albedo of the lobe: rows by cosine at the middle of a cell, columns by roughness."""
    side = out.shape[0]
    for i in range(side):
        vz = (i + 0.5) / side
        vx = math.sqrt(1.0 - vz * vz)
        for j in range(side):
            alpha = max(((j + 0.5) / side) ** 2, SMOOTHEST)
            total = 0.0
            for a in range(steps):
                wz = (a + 0.5) / steps
                sine = math.sqrt(1.0 - wz * wz)
                for b in range(steps):
                    phi = PI * (b + 0.5) / steps
                    hx, hy, hz = vx + sine * math.cos(phi), sine * math.sin(phi), vz + wz
                    hz /= math.sqrt(hx * hx + hy * hy + hz * hz)
                    total += sheen_lobe(vz, wz, hz, alpha)
            out[i, j] = min(total * 2.0 * PI / (steps * steps), 1.0)


@lru_cache(1)
def albedo_table() -> NDArray[np.float64]:
    """The share of light that the lobe takes, float64 (SIDE, SIDE): by cosine, by roughness."""
    out = np.zeros((SIDE, SIDE))
    _integrate(out, STEPS)
    return out


@linked
def sheen_albedo(table: int, cosine: float, alpha: float) -> float:
    """The table's value, bilinear; `table` is its address."""
    values = f64_at(table)
    x = min(max(cosine * SIDE - 0.5, 0.0), SIDE - 1.001)
    y = min(max(math.sqrt(alpha) * SIDE - 0.5, 0.0), SIDE - 1.001)
    i, j = np.int64(x), np.int64(y)
    f, g = x - i, y - j
    at = i * SIDE + j
    upper = values[at] + g * (values[at + 1] - values[at])
    lower = values[at + SIDE] + g * (values[at + SIDE + 1] - values[at + SIDE])
    return upper + f * (lower - upper)
