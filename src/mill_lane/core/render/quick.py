"""Functions that the system's mathematics has too, as exact as a picture needs and quicker."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render.jit import inner
from mill_lane.core.render.lanes import as_floats, bits_of, from_bits, u32

F, U = np.float32, np.uint32
ROOT = math.sqrt(2.0)
PI = math.pi


@inner
def base2(x: Any) -> Any:
    """The logarithm to the base 2 of lanes of float32 above 0, to 2e-5.

    The exponent from the bits, the fraction by the series of the inverse hyperbolic tangent
    (Abramowitz and Stegun 4.1.27).
    """
    whole = bits_of(x)
    exponent = as_floats(u32(whole >> U(23)))
    m = from_bits(u32(u32(whole & U(0x007FFFFF)) | U(0x3F800000)))
    t = (m - F(ROOT)) / (m + F(ROOT))
    y = t * t
    series = F(1) + y * (F(1 / 3) + y * F(1 / 5))
    return exponent - F(126.5) + F(2.0 / math.log(2.0)) * t * series


@inner
def polar_angle(cosine: float) -> Any:
    """The arc cosine, to 3e-8 (Abramowitz and Stegun 4.4.46)."""
    x = abs(cosine)
    series = -0.0012624911
    series = 0.0066700901 + x * series
    series = -0.0170881256 + x * series
    series = 0.0308918810 + x * series
    series = -0.0501743046 + x * series
    series = 0.0889789874 + x * series
    series = -0.2145988016 + x * series
    series = 1.5707963050 + x * series
    angle = math.sqrt(max(1.0 - x, 0.0)) * series
    return PI - angle if cosine < 0 else angle


@inner
def turned_by(y: float, x: float) -> Any:
    """The angle of (x, y), 0 to 2 pi, to 1e-10.

    Halved until Euler's series for the arc tangent of a small number is short.
    """
    a, b = abs(x), abs(y)
    t = min(a, b) / max(max(a, b), 1e-300)
    # tan(angle / 4) by halving twice: at most tan(pi / 16).
    t = t / (1.0 + math.sqrt(1.0 + t * t))
    t = t / (1.0 + math.sqrt(1.0 + t * t))
    z = t * t
    angle = 4.0 * t * (1.0 - z * (1 / 3 - z * (1 / 5 - z * (1 / 7 - z * (1 / 9 - z / 11)))))
    if b > a:
        angle = 0.5 * PI - angle
    if x < 0:
        angle = PI - angle
    return 2.0 * PI - angle if y < 0 else angle
