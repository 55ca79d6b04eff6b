"""How surfaces scatter light:

a diffuse base under GGX, metal, clear dielectrics, and a coat of varnish over all.

glTF 2.0 appendix B gives the mix, KHR_materials_transmission, _volume and _clearcoat the rest; GGX
is Walter et al. 2007 with visible normals sampled as in Heitz 2018 and the height-correlated Smith
term of Heitz 2014.  There are four lobes, each sampled for itself: diffuse, gloss, coat, through.
Directions are in the shading frame.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render.jit import inner, lean
from mill_lane.core.render.slots import (
    Q_BB,
    Q_BG,
    Q_BR,
    Q_CLEAR,
    Q_COAT,
    Q_COAT_ALPHA,
    Q_ETA,
    Q_FRONT,
    Q_LOBES,
    Q_METAL,
    Q_ROUGHNESS,
)

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
def _lambda(z: float, alpha: float) -> Any:
    """Smith's auxiliary function (Heitz 2014, equation 72)."""
    z2 = max(z * z, 1e-12)
    return 0.5 * (math.sqrt(1.0 + alpha * alpha * (1.0 - z2) / z2) - 1.0)


@lean
def sample_visible_normal(vx: float, vy: float, vz: float, alpha: float, u: float, v: float) -> Any:
    """A microfacet normal as seen from direction v (Heitz 2018, listing 1)."""
    x, y, z = alpha * vx, alpha * vy, vz
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
    hx, hy, hz = alpha * hx, alpha * hy, max(1e-9, hz)
    k = 1.0 / math.sqrt(hx * hx + hy * hy + hz * hz)
    return hx * k, hy * k, hz * k


@lean
def visible_normal_density(vz: float, vh: float, hz: float, alpha: float) -> Any:
    """The density of `sample_visible_normal` over the solid angle of h (Heitz 2018, equation 3)."""
    return ggx_density(hz, alpha) * max(vh, 0.0) / (max(vz, 1e-9) * (1.0 + _lambda(vz, alpha)))


@inner
def luma(r: float, g: float, b: float) -> Any:
    """Luminance by Rec.709's weights."""
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


@lean
def relative_index(q: Any, thin: bool) -> Any:
    """The index behind the surface over the one before it."""
    return 1.0 / q[Q_ETA] if q[Q_FRONT] < 0 and not thin else q[Q_ETA]


@lean
def chances(q: Any, vz: float, thin: bool, straight: bool) -> Any:
    """How likely each lobe is sampled:

    (diffuse, gloss, coat, through), by about what it reflects; their sum is 1, or 0.

    With `straight` what goes through without bending was dealt with before, and is no lobe.
    """
    f = fresnel(vz, relative_index(q, thin))
    metal, clear = q[Q_METAL], q[Q_CLEAR]
    base = luma(q[Q_BR], q[Q_BG], q[Q_BB])
    coat = q[Q_COAT] * schlick(0.04, vz) if q[Q_COAT] > 0 else 0.0
    below = 1.0 - coat
    gloss: float = below * (1.0 - metal) * f
    if metal > 0:
        gloss += below * metal * schlick(base, vz)
    diffuse = below * (1.0 - metal - clear) * (1.0 - f) * base
    through = 0.0 if straight else below * clear * (1.0 - f) * base
    total = gloss + diffuse + through + coat
    if total <= 0:
        return 0.0, 0.0, 0.0, 0.0
    if is_smooth(q):
        # Two mirrors: each as often as it reflects, and every sample weighs the same.
        k = 1.0 / total
        return diffuse * k, gloss * k, coat * k, through * k
    # A share within rounding is none: with an index of 1 nothing is reflected.
    if diffuse >= total * (1.0 - 1e-12):
        return 1.0, 0.0, 0.0, 0.0
    # No lobe is nearly left out: where one is small its samples would be rare and bright.
    least = 0.1 * total
    diffuse = max(diffuse, least) if diffuse > 0 else 0.0
    gloss = max(gloss, least) if gloss > 0 else 0.0
    coat = max(coat, least) if coat > 0 else 0.0
    through = max(through, least) if through > 0 else 0.0
    k = 1.0 / (gloss + diffuse + through + coat)
    return diffuse * k, gloss * k, coat * k, through * k


@lean
def is_smooth(q: Any) -> bool:
    """Whether base gloss and transmission are mirrors without width: clear and polished."""
    return q[Q_CLEAR] > 0 and q[Q_ROUGHNESS] <= SMOOTHEST


@lean
def _ggx(vz: float, wz: float, hz: float, vh: float, alpha: float) -> Any:
    """GGX times the cosine without Fresnel, and the density of sampling it by visible normals."""
    lv = _lambda(vz, alpha)
    d = ggx_density(hz, alpha)
    return d / ((1.0 + lv + _lambda(wz, alpha)) * 4.0 * vz), d / ((1.0 + lv) * 4.0 * max(vz, 1e-9))


@inner
def _set(q: Any, lobe: int, r: float, g: float, b: float, density: float) -> None:
    at = Q_LOBES + 4 * lobe
    q[at], q[at + 1], q[at + 2], q[at + 3] = r, g, b, density


@lean
def evaluate(
    q: Any, vx: float, vy: float, vz: float, wx: float, wy: float, wz: float, thin: bool, only: int
) -> None:
    """Each lobe times the cosine, and its density, for a viewer v and a direction w:

    Q_LOBES, four numbers a lobe.

    Both point away from the surface, z along the normal that faces the viewer.  The material is the
    event's.  With `only` from 0 on just that lobe is worked out.
    """
    if only < 0:
        for k in range(16):
            q[Q_LOBES + k] = 0.0
    else:
        _set(q, only, 0.0, 0.0, 0.0, 0.0)
    if vz <= 0 or wz == 0:
        return
    metal, clear, alpha = q[Q_METAL], q[Q_CLEAR], q[Q_ROUGHNESS]
    eta = relative_index(q, thin)
    below = 1.0 - q[Q_COAT] * schlick(0.04, vz) if q[Q_COAT] > 0 else 1.0
    if wz > 0:
        hx, hy, hz = vx + wx, vy + wy, vz + wz
        n2 = hx * hx + hy * hy + hz * hz
        if n2 < 1e-24:
            return
        shorter = 1.0 / math.sqrt(n2)
        hx, hy, hz = hx * shorter, hy * shorter, hz * shorter
        vh = vx * hx + vy * hy + vz * hz
        f = fresnel(vh, eta)
        cosine = wz * (1.0 / PI)
        soft = below * (1.0 - metal - clear) * (1.0 - f) * cosine
        _set(q, 0, soft * q[Q_BR], soft * q[Q_BG], soft * q[Q_BB], cosine)
        if only == 0:
            return
        if f + metal > 0 and only != 2 and not is_smooth(q):
            gloss, density = _ggx(vz, wz, hz, vh, alpha)
            gloss *= below
            c = (1.0 - metal) * f
            if metal > 0:
                _set(
                    q,
                    1,
                    gloss * (c + metal * schlick(q[Q_BR], vh)),
                    gloss * (c + metal * schlick(q[Q_BG], vh)),
                    gloss * (c + metal * schlick(q[Q_BB], vh)),
                    density,
                )
            else:
                _set(q, 1, gloss * c, gloss * c, gloss * c, density)
        if q[Q_COAT] > 0:
            gloss, density = _ggx(vz, wz, hz, vh, q[Q_COAT_ALPHA])
            gloss *= q[Q_COAT] * schlick(0.04, vh)
            _set(q, 2, gloss, gloss, gloss, density)
        return
    if clear <= 0 or is_smooth(q):
        return
    if thin:
        # KHR_materials_transmission: a thin wall spreads what goes through as the mirror lobe, on
        # the other side.
        hx, hy, hz = vx + wx, vy + wy, vz - wz
        n = math.sqrt(hx * hx + hy * hy + hz * hz)
        hx, hy, hz = hx / n, hy / n, hz / n
        vh = vx * hx + vy * hy + vz * hz
        k, density = _ggx(vz, -wz, hz, vh, alpha)
        k *= below * clear * (1.0 - fresnel(vh, eta))
        _set(q, 3, k * q[Q_BR], k * q[Q_BG], k * q[Q_BB], density)
        return
    # Walter et al. 2007, equations 16 and 17; radiance is counted without the factor of the squared
    # index, which the way out of the glass takes back.
    hx, hy, hz = -(vx + eta * wx), -(vy + eta * wy), -(vz + eta * wz)
    n = math.sqrt(hx * hx + hy * hy + hz * hz)
    if n < 1e-12:
        return
    hx, hy, hz = hx / n, hy / n, hz / n
    if hz < 0:
        hx, hy, hz = -hx, -hy, -hz
    vh, wh = vx * hx + vy * hy + vz * hz, wx * hx + wy * hy + wz * hz
    if vh <= 0 or wh >= 0:
        return
    lv = _lambda(vz, alpha)
    shared = (
        ggx_density(hz, alpha) * vh / vz * eta * eta * -wh / ((vh + eta * wh) * (vh + eta * wh))
    )
    k = below * clear * (1.0 - fresnel(vh, eta)) * shared / (1.0 + lv + _lambda(-wz, alpha))
    _set(q, 3, k * q[Q_BR], k * q[Q_BG], k * q[Q_BB], shared / (1.0 + lv))


@lean
def sample(
    q: Any, lobe: int, vx: float, vy: float, vz: float, a: float, b: float, thin: bool
) -> Any:
    """A direction of one lobe for the viewer v, as `evaluate` has it; (0, 0, 0) where the path
    ends.
    """
    if lobe == 0:
        r = math.sqrt(a)
        c, s = turn(b)
        return r * c, r * s, math.sqrt(max(0.0, 1.0 - a))
    hx, hy, hz = 0.0, 0.0, 1.0
    if lobe == 2 or not is_smooth(q):
        hx, hy, hz = sample_visible_normal(
            vx, vy, vz, q[Q_COAT_ALPHA] if lobe == 2 else q[Q_ROUGHNESS], a, b
        )
    vh = vx * hx + vy * hy + vz * hz
    if lobe < 3 or thin:
        wx, wy, wz = 2.0 * vh * hx - vx, 2.0 * vh * hy - vy, 2.0 * vh * hz - vz
        if wz <= 0:
            return 0.0, 0.0, 0.0
        return wx, wy, (wz if lobe < 3 else -wz)
    eta = relative_index(q, thin)
    if fresnel(vh, eta) >= 1.0:
        return 0.0, 0.0, 0.0
    wx, wy, wz = refract(-vx, -vy, -vz, hx, hy, hz, eta)
    return (wx, wy, wz) if wz < 0 else (0.0, 0.0, 0.0)


@lean
def smooth_weight(q: Any, lobe: int, vz: float, thin: bool) -> Any:
    """What a mirror without width reflects (lobe 1) or lets through (lobe 3), by colour."""
    f = fresnel(vz, relative_index(q, thin))
    metal, clear = q[Q_METAL], q[Q_CLEAR]
    below = 1.0 - q[Q_COAT] * schlick(0.04, vz)
    if lobe == 3:
        k = below * clear * (1.0 - f)
        return k * q[Q_BR], k * q[Q_BG], k * q[Q_BB]
    c = below * (1.0 - metal) * f
    k = below * metal
    return c + k * schlick(q[Q_BR], vz), c + k * schlick(q[Q_BG], vz), c + k * schlick(q[Q_BB], vz)


@lean
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


@lean
def frame(nx: float, ny: float, nz: float) -> Any:
    """Two directions across a normal (Duff et al. 2017)."""
    sign = 1.0 if nz >= 0 else -1.0
    a = -1.0 / (sign + nz)
    b = nx * ny * a
    return (1.0 + sign * nx * nx * a, sign * b, -sign * nx), (b, sign + ny * ny * a, -ny)
