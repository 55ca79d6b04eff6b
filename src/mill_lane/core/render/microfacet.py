"""The parts that surfaces are made of: Fresnel's equations, GGX, and frames round a normal.

GGX is Walter et al. 2007 with visible normals sampled as in Heitz 2018 and the height-correlated
Smith term of Heitz 2014; along and across a tangent as in Burley 2012.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render.jit import inner, linked

PI = math.pi
SMOOTHEST = 1e-3  # of GGX's alpha; below it sampling cannot follow


@inner
def turn(u: float) -> Any:
    """Cosine and sine of a turn by u in [0, 1], to 1e-11.

    Taylor's series over an eighth of a turn to each side of the nearest quarter, where the next
    term is below 1e-11.
    """
    quarter = math.floor(4.0 * u + 0.5)
    x = (u - 0.25 * quarter) * (2.0 * PI)
    y = x * x
    s = x * (
        1.0 + y * (-1 / 6 + y * (1 / 120 + y * (-1 / 5040 + y * (1 / 362880 - y * (1 / 39916800)))))
    )
    c = 1.0 + y * (
        -1 / 2
        + y * (1 / 24 + y * (-1 / 720 + y * (1 / 40320 + y * (-1 / 3628800 + y * (1 / 479001600)))))
    )
    k = np.int64(quarter)
    if k & 1:
        c, s = -s, c
    if k & 2:
        c, s = -c, -s
    return c, s


@inner
def fresnel(cosine: float, eta: float) -> Any:
    """Unpolarised reflectance of a dielectric; eta is the index inside over outside, seen from
    outside.

    Exact Fresnel equations (Born and Wolf, Principles of Optics, section 1.5), both fractions over
    one denominator. 1 beyond total reflection.
    """
    c = min(max(cosine, 0.0), 1.0)
    e2 = eta * eta
    g2 = e2 - 1.0 + c * c
    if g2 <= 0:
        return 1.0
    g = math.sqrt(g2)
    under, across = e2 * c + g, c + g
    # The fractions' numerators, each times the other's denominator.
    p, q = (e2 * c - g) * across, (c - g) * under
    return 0.5 * (p * p + q * q) / (under * under * across * across)


@inner
def schlick(f0: float, cosine: float) -> Any:
    """Schlick 1994, as glTF's metal asks."""
    m = min(max(1.0 - cosine, 0.0), 1.0)
    m2 = m * m
    return f0 + (1.0 - f0) * m2 * m2 * m


@inner
def ggx_density(hz: float, alpha: float) -> Any:
    """D(h) of Walter et al. 2007, equation 33."""
    a2 = alpha * alpha
    d = hz * hz * (a2 - 1.0) + 1.0
    return a2 / (PI * d * d)


@inner
def smith_lambda(z: float, alpha: float) -> Any:
    """Smith's auxiliary function (Heitz 2014, equation 72)."""
    z2 = max(z * z, 1e-12)
    return 0.5 * (math.sqrt(1.0 + alpha * alpha * (1.0 - z2) / z2) - 1.0)


@linked
def sample_visible_normal(vx: float, vy: float, vz: float, alpha: float, u: float, v: float) -> Any:
    """A microfacet normal as seen from direction v (Heitz 2018, listing 1)."""
    return sample_visible_normal_along(vx, vy, vz, alpha, alpha, u, v)


@linked
def sample_visible_normal_along(
    vx: float, vy: float, vz: float, along: float, across: float, u: float, v: float
) -> Any:
    """A microfacet normal as seen from v, with an alpha along x and one along y (Heitz 2018)."""
    x, y, z = along * vx, across * vy, vz
    k = 1.0 / math.sqrt(x * x + y * y + z * z)
    x, y, z = x * k, y * k, z * k
    length = x * x + y * y
    if length > 1e-14:
        k = 1.0 / math.sqrt(length)
        ax, ay, az = -y * k, x * k, 0.0
    else:
        ax, ay, az = 1.0, 0.0, 0.0
    bx, by, bz = y * az - z * ay, z * ax - x * az, x * ay - y * ax
    r = math.sqrt(u)
    p, q = turn(v)
    p, q = r * p, r * q
    s = 0.5 * (1.0 + z)
    q = (1.0 - s) * math.sqrt(max(0.0, 1.0 - p * p)) + s * q
    w = math.sqrt(max(0.0, 1.0 - p * p - q * q))
    hx, hy, hz = p * ax + q * bx + w * x, p * ay + q * by + w * y, p * az + q * bz + w * z
    hx, hy, hz = along * hx, across * hy, max(1e-9, hz)
    k = 1.0 / math.sqrt(hx * hx + hy * hy + hz * hz)
    return hx * k, hy * k, hz * k


@linked
def visible_normal_density(vz: float, vh: float, hz: float, alpha: float) -> Any:
    """The density of `sample_visible_normal` over the solid angle of h (Heitz 2018, equation 3)."""
    return ggx_density(hz, alpha) * max(vh, 0.0) / (max(vz, 1e-9) * (1.0 + smith_lambda(vz, alpha)))


@linked
def ggx(vz: float, wz: float, hz: float, vh: float, alpha: float) -> Any:
    """GGX times the cosine without Fresnel, and the density of sampling it by visible normals."""
    lv = smith_lambda(vz, alpha)
    d = ggx_density(hz, alpha)
    return d / ((1.0 + lv + smith_lambda(wz, alpha)) * 4.0 * vz), d / (
        (1.0 + lv) * 4.0 * max(vz, 1e-9)
    )


@linked
def ggx_along(
    vx: float, vy: float, vz: float, wx: float, wy: float, wz: float, along: float, across: float
) -> Any:
    """`ggx` with an alpha along x and one along y (KHR_materials_anisotropy; Heitz 2014).

    The half vector is worked out here: v and w lie on the same side.
    """
    hx, hy, hz = vx + wx, vy + wy, vz + wz
    n2 = max(hx * hx + hy * hy + hz * hz, 1e-24)
    d = (hx * hx / (along * along) + hy * hy / (across * across) + hz * hz) / n2
    density = 1.0 / (PI * along * across * d * d)
    lv = _lambda_along(vx, vy, vz, along, across)
    lw = _lambda_along(wx, wy, wz, along, across)
    return density / ((1.0 + lv + lw) * 4.0 * vz), density / ((1.0 + lv) * 4.0 * max(vz, 1e-9))


@inner
def _lambda_along(x: float, y: float, z: float, along: float, across: float) -> Any:
    wide = along * along * x * x + across * across * y * y
    return 0.5 * (math.sqrt(1.0 + wide / max(z * z, 1e-12)) - 1.0)


@linked
def refract(dx: float, dy: float, dz: float, nx: float, ny: float, nz: float, eta: float) -> Any:
    """Snell's law:

    direction d entering through normal n (against d), eta the index behind over before.

    Call only where `fresnel` is below 1.
    """
    c = -(dx * nx + dy * ny + dz * nz)
    k = 1.0 / eta
    t = math.sqrt(max(0.0, 1.0 - k * k * (1.0 - c * c)))
    s = k * c - t
    return k * dx + s * nx, k * dy + s * ny, k * dz + s * nz


@linked
def frame(nx: float, ny: float, nz: float) -> Any:
    """Two directions across a normal (Duff et al. 2017)."""
    sign = 1.0 if nz >= 0 else -1.0
    a = -1.0 / (sign + nz)
    b = nx * ny * a
    return (1.0 + sign * nx * nx * a, sign * b, -sign * nx), (b, sign + ny * ny * a, -ny)
