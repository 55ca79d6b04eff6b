"""The parts that surfaces are made of: Fresnel's equations, GGX, and frames round a normal.

All of them take numbers or lanes of them.

GGX is Walter et al. 2007 with visible normals sampled as in Heitz 2018 and the height-correlated
Smith term of Heitz 2014; along and across a tangent as in Burley 2012.
"""

from __future__ import annotations

import math
from typing import Any

from mill_lane.core.render.jit import inner
from mill_lane.core.render.lanes import floor_of, least, most, root, where

PI = math.pi
SMOOTHEST = 1e-3  # of GGX's alpha; below it sampling cannot follow


@inner
def turn(u: Any) -> Any:
    """Cosine and sine of a turn by u in [0, 1], to 1e-11.

    Taylor's series over an eighth of a turn to each side of the nearest quarter, where the next
    term is below 1e-11.
    """
    quarter = floor_of(4.0 * u + 0.5)
    x = (u - 0.25 * quarter) * (2.0 * PI)
    y = x * x
    s = x * (
        1.0 + y * (-1 / 6 + y * (1 / 120 + y * (-1 / 5040 + y * (1 / 362880 - y * (1 / 39916800)))))
    )
    c = 1.0 + y * (
        -1 / 2
        + y * (1 / 24 + y * (-1 / 720 + y * (1 / 40320 + y * (-1 / 3628800 + y * (1 / 479001600)))))
    )
    # A quarter turns (c, s) into (-s, c), two into (-c, -s); four are none.
    half = floor_of(0.5 * quarter)
    odd = quarter - 2.0 * half > 0.5
    c, s = where(odd, 0.0 - s, c), where(odd, c, s)
    back = half - 2.0 * floor_of(0.5 * half) > 0.5
    return where(back, 0.0 - c, c), where(back, 0.0 - s, s)


@inner
def fresnel(cosine: Any, eta: Any) -> Any:
    """Unpolarised reflectance of a dielectric; eta is the index inside over outside, seen from
    outside.

    Exact Fresnel equations (Born and Wolf, Principles of Optics, section 1.5), both fractions over
    one denominator. 1 beyond total reflection.
    """
    c = least(most(cosine, 0.0), 1.0)
    e2 = eta * eta
    g2 = (e2 - 1.0) + c * c
    g = root(most(g2, 0.0))
    under, across = e2 * c + g, c + g
    # The fractions' numerators, each times the other's denominator.
    p, q = (e2 * c - g) * across, (c - g) * under
    return where(g2 <= 0.0, 1.0, 0.5 * (p * p + q * q) / (under * under * across * across))


@inner
def schlick(f0: Any, cosine: Any) -> Any:
    """Schlick 1994, as glTF's metal asks."""
    m = least(most(1.0 - cosine, 0.0), 1.0)
    m2 = m * m
    return f0 + (1.0 - f0) * (m2 * m2 * m)


@inner
def ggx_density(h2: Any, hz: Any, alpha: Any) -> Any:
    """D(h) of Walter et al. 2007, equation 33; h2 is the squared part of h across the normal, which
    says exactly how far a half vector leans where the cosine is rounded to 1.
    """
    a2 = alpha * alpha
    d = h2 + a2 * (hz * hz)
    return a2 / (PI * d * d)


@inner
def smith_lambda(z: Any, alpha: Any) -> Any:
    """Smith's auxiliary function (Heitz 2014, equation 72)."""
    z2 = most(z * z, 1e-12)
    return 0.5 * (root(1.0 + alpha * alpha * (1.0 - z2) / z2) - 1.0)


@inner
def sample_visible_normal(
    vx: Any, vy: Any, vz: Any, along: Any, across: Any, u: Any, v: Any
) -> Any:
    """A microfacet normal as seen from v, with an alpha along x and one along y (Heitz 2018,
    listing 1).
    """
    x, y, z = along * vx, across * vy, vz
    k = 1.0 / root(x * x + y * y + z * z)
    x, y, z = x * k, y * k, z * k
    length = x * x + y * y
    leans = length > 1e-14
    k = 1.0 / root(where(leans, length, 1.0))
    ax, ay = where(leans, 0.0 - y * k, 1.0), where(leans, x * k, 0.0)
    bx, by, bz = 0.0 - z * ay, z * ax, x * ay - y * ax
    r = root(u)
    p, q = turn(v)
    p, q = r * p, r * q
    s = 0.5 * (1.0 + z)
    q = (1.0 - s) * root(most(1.0 - p * p, 0.0)) + s * q
    w = root(most(1.0 - p * p - q * q, 0.0))
    hx, hy, hz = p * ax + q * bx + w * x, p * ay + q * by + w * y, q * bz + w * z
    hx, hy, hz = along * hx, across * hy, most(hz, 1e-9)
    k = 1.0 / root(hx * hx + hy * hy + hz * hz)
    return hx * k, hy * k, hz * k


@inner
def ggx(h2: Any, vz: Any, wz: Any, hz: Any, alpha: Any) -> Any:
    """GGX times the cosine without Fresnel, and the density of sampling it by visible normals
    (Heitz 2018, equation 3).
    """
    lv = smith_lambda(vz, alpha)
    d = ggx_density(h2, hz, alpha)
    return d / ((1.0 + lv + smith_lambda(wz, alpha)) * 4.0 * vz), d / (
        (1.0 + lv) * 4.0 * most(vz, 1e-9)
    )


@inner
def ggx_along(vx: Any, vy: Any, vz: Any, wx: Any, wy: Any, wz: Any, along: Any, across: Any) -> Any:
    """`ggx` with an alpha along x and one along y (KHR_materials_anisotropy; Heitz 2014).

    The half vector is worked out here: v and w lie on the same side.
    """
    hx, hy, hz = vx + wx, vy + wy, vz + wz
    n2 = most(hx * hx + hy * hy + hz * hz, 1e-24)
    hx, hy = hx / along, hy / across
    d = (hx * hx + hy * hy + hz * hz) / n2
    density = 1.0 / (PI * along * across * d * d)
    lv = _lambda_along(vx, vy, vz, along, across)
    lw = _lambda_along(wx, wy, wz, along, across)
    return density / ((1.0 + lv + lw) * 4.0 * vz), density / ((1.0 + lv) * 4.0 * most(vz, 1e-9))


@inner
def _lambda_along(x: Any, y: Any, z: Any, along: Any, across: Any) -> Any:
    wide = along * along * x * x + across * across * y * y
    return 0.5 * (root(1.0 + wide / most(z * z, 1e-12)) - 1.0)


@inner
def refract(dx: Any, dy: Any, dz: Any, nx: Any, ny: Any, nz: Any, eta: Any) -> Any:
    """Snell's law:

    direction d entering through normal n (against d), eta the index behind over before.

    Call only where `fresnel` is below 1.
    """
    c = 0.0 - (dx * nx + dy * ny + dz * nz)
    k = 1.0 / eta
    t = root(most(1.0 - k * k * (1.0 - c * c), 0.0))
    s = k * c - t
    return k * dx + s * nx, k * dy + s * ny, k * dz + s * nz


@inner
def frame(nx: Any, ny: Any, nz: Any) -> Any:
    """Two directions across a normal (Duff et al. 2017)."""
    sign = where(nz >= 0.0, 1.0, -1.0)
    a = -1.0 / (sign + nz)
    b = nx * ny * a
    return (
        (1.0 + sign * nx * nx * a, sign * b, 0.0 - sign * nx),
        (b, sign + ny * ny * a, 0.0 - ny),
    )
