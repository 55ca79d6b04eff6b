"""How surfaces scatter light: a diffuse base under GGX, metal, and clear dielectrics.

glTF 2.0 appendix B gives the mix; GGX is Walter et al. 2007 with visible normals sampled as in Heitz 2018 and the
height-correlated Smith term of Heitz 2014.  Directions are in the shading frame, z along the normal, both pointing away.
"""

from __future__ import annotations

import math
from typing import Any

from mill_lane.core.render.jit import lean

PI = math.pi


@lean
def fresnel(cosine: float, eta: float) -> Any:
    """Unpolarised reflectance of a dielectric; eta is the index inside over outside, seen from outside.

    Exact Fresnel equations (Born and Wolf, Principles of Optics, section 1.5).  1 beyond total reflection.
    """
    c = min(max(cosine, 0.0), 1.0)
    t2 = 1.0 - (1.0 - c * c) / (eta * eta)
    if t2 <= 0:
        return 1.0
    t = math.sqrt(t2)
    parallel = (eta * c - t) / (eta * c + t)
    across = (c - eta * t) / (c + eta * t)
    return 0.5 * (parallel * parallel + across * across)


@lean
def schlick(f0: float, cosine: float) -> Any:
    """Schlick 1994, as glTF's metal asks."""
    m = min(max(1.0 - cosine, 0.0), 1.0)
    m2 = m * m
    return f0 + (1.0 - f0) * m2 * m2 * m


@lean
def ggx_density(hz: float, alpha: float) -> Any:
    """D(h) of Walter et al. 2007, equation 33."""
    a2 = alpha * alpha
    d = hz * hz * (a2 - 1.0) + 1.0
    return a2 / (PI * d * d)


@lean
def _lambda(z: float, alpha: float) -> Any:
    """Smith's auxiliary function (Heitz 2014, equation 72)."""
    z2 = max(z * z, 1e-12)
    return 0.5 * (math.sqrt(1.0 + alpha * alpha * (1.0 - z2) / z2) - 1.0)


@lean
def sample_visible_normal(vx: float, vy: float, vz: float, alpha: float, u: float, v: float) -> Any:
    """A microfacet normal as seen from direction v (Heitz 2018, listing 1)."""
    x, y, z = alpha * vx, alpha * vy, vz
    n = math.sqrt(x * x + y * y + z * z)
    x, y, z = x / n, y / n, z / n
    length = x * x + y * y
    if length > 1e-14:
        k = 1.0 / math.sqrt(length)
        ax, ay, az = -y * k, x * k, 0.0
    else:
        ax, ay, az = 1.0, 0.0, 0.0
    bx, by, bz = y * az - z * ay, z * ax - x * az, x * ay - y * ax
    r, phi = math.sqrt(u), 2.0 * PI * v
    p, q = r * math.cos(phi), r * math.sin(phi)
    s = 0.5 * (1.0 + z)
    q = (1.0 - s) * math.sqrt(max(0.0, 1.0 - p * p)) + s * q
    w = math.sqrt(max(0.0, 1.0 - p * p - q * q))
    hx, hy, hz = p * ax + q * bx + w * x, p * ay + q * by + w * y, p * az + q * bz + w * z
    hx, hy, hz = alpha * hx, alpha * hy, max(1e-9, hz)
    n = math.sqrt(hx * hx + hy * hy + hz * hz)
    return hx / n, hy / n, hz / n


@lean
def visible_normal_density(vz: float, vh: float, hz: float, alpha: float) -> Any:
    """The density of `sample_visible_normal` over the solid angle of h (Heitz 2018, equation 3)."""
    return ggx_density(hz, alpha) * max(vh, 0.0) / (max(vz, 1e-9) * (1.0 + _lambda(vz, alpha)))


@lean
def specular_share(base: Any, metallic: float, eta: float, vz: float) -> Any:
    """The probability with which the specular lobe is sampled."""
    luma = 0.2126 * base[0] + 0.7152 * base[1] + 0.0722 * base[2]
    f = fresnel(vz, eta)
    specular = metallic * schlick(luma, vz) + (1.0 - metallic) * f
    diffuse = (1.0 - metallic) * (1.0 - f) * luma
    total = specular + diffuse
    if total <= 0:
        return 0.5
    # Neither lobe is ever left out: where one is small its samples would be rare and bright.
    return min(max(specular / total, 0.1), 0.9) if diffuse > 0 else 1.0


@lean
def evaluate(base: Any, metallic: float, alpha: float, eta: float, v: Any, w: Any) -> Any:
    """The BSDF times the cosine, and the density with which `sample` makes w: (red, green, blue, density)."""
    if v[2] <= 0 or w[2] <= 0:
        return 0.0, 0.0, 0.0, 0.0
    hx, hy, hz = v[0] + w[0], v[1] + w[1], v[2] + w[2]
    n = math.sqrt(hx * hx + hy * hy + hz * hz)
    if n < 1e-12:
        return 0.0, 0.0, 0.0, 0.0
    hx, hy, hz = hx / n, hy / n, hz / n
    vh = v[0] * hx + v[1] * hy + v[2] * hz
    gloss = ggx_density(hz, alpha) / (1.0 + _lambda(v[2], alpha) + _lambda(w[2], alpha)) / (4.0 * v[2])
    f = fresnel(vh, eta)
    diffuse = (1.0 - metallic) * (1.0 - f) * w[2] / PI
    clear = (1.0 - metallic) * f
    p = specular_share(base, metallic, eta, v[2])
    density = p * visible_normal_density(v[2], vh, hz, alpha) / (4.0 * max(vh, 1e-9)) + (1.0 - p) * w[2] / PI
    return (
        diffuse * base[0] + gloss * (clear + metallic * schlick(base[0], vh)),
        diffuse * base[1] + gloss * (clear + metallic * schlick(base[1], vh)),
        diffuse * base[2] + gloss * (clear + metallic * schlick(base[2], vh)),
        density,
    )


@lean
def sample(base: Any, metallic: float, alpha: float, eta: float, v: Any, pick: float, a: float, b: float) -> Any:
    """A direction w for the viewer v: (x, y, z); z <= 0 means that the path ends."""
    if pick < specular_share(base, metallic, eta, v[2]):
        hx, hy, hz = sample_visible_normal(v[0], v[1], v[2], alpha, a, b)
        vh = v[0] * hx + v[1] * hy + v[2] * hz
        return 2.0 * vh * hx - v[0], 2.0 * vh * hy - v[1], 2.0 * vh * hz - v[2]
    r, phi = math.sqrt(a), 2.0 * PI * b
    return r * math.cos(phi), r * math.sin(phi), math.sqrt(max(0.0, 1.0 - a))


@lean
def refract(dx: float, dy: float, dz: float, nx: float, ny: float, nz: float, eta: float) -> Any:
    """Snell's law: direction d entering through normal n (against d), eta the index behind over before.

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
