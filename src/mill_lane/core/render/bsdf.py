"""How surfaces scatter light:

a diffuse base under GGX, metal, clear dielectrics, sheen, and a coat of varnish over all.

glTF 2.0 appendix B gives the mix, KHR_materials_transmission, _volume, _specular, _sheen,
_anisotropy and _clearcoat the rest.  There are four lobes, each sampled for itself: diffuse (with
the sheen), gloss, coat, through.  Directions are in the shading frame.
"""

from __future__ import annotations

import math
from typing import Any

from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.microfacet import (
    SMOOTHEST,
    fresnel,
    ggx,
    ggx_along,
    ggx_density,
    refract,
    sample_visible_normal,
    sample_visible_normal_along,
    schlick,
    smith_lambda,
    turn,
)
from mill_lane.core.render.sheen import sheen_albedo, sheen_lobe
from mill_lane.core.render.slots import (
    Q_ALONG,
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
    Q_SHEEN_ALPHA,
    Q_SHEEN_B,
    Q_SHEEN_G,
    Q_SHEEN_MOST,
    Q_SHEEN_R,
    Q_SHEEN_TABLE,
    Q_SPECULAR,
    Q_SPECULAR_B,
    Q_SPECULAR_G,
    Q_SPECULAR_R,
    Q_TURN_COSINE,
    Q_TURN_SINE,
)

PI = math.pi


@inner
def luma(r: float, g: float, b: float) -> Any:
    """Luminance by Rec.709's weights."""
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


@linked
def relative_index(q: Any, thin: bool) -> Any:
    """The index behind the surface over the one before it."""
    return 1.0 / q[Q_ETA] if q[Q_FRONT] < 0 and not thin else q[Q_ETA]


@linked
def dielectric(q: Any, cosine: float, thin: bool) -> Any:
    """What a dielectric mirrors, by colour, and what that takes from below (the largest of them).

    KHR_materials_specular: the reflectance at normal incidence is tinted, all of it is weighed.
    How it rises towards grazing angles is taken from the exact equations.
    """
    eta = relative_index(q, thin)
    f = fresnel(cosine, eta)
    share = q[Q_SPECULAR]
    if share < 0 or (q[Q_FRONT] < 0 and not thin):
        return f, f, f, f
    root = (eta - 1.0) / (eta + 1.0)
    f0 = root * root
    rise = (f - f0) / max(1.0 - f0, 1e-9)
    r = min(f0 * q[Q_SPECULAR_R], 1.0)
    g = min(f0 * q[Q_SPECULAR_G], 1.0)
    b = min(f0 * q[Q_SPECULAR_B], 1.0)
    r = share * (r + (1.0 - r) * rise)
    g = share * (g + (1.0 - g) * rise)
    b = share * (b + (1.0 - b) * rise)
    return r, g, b, max(r, max(g, b))


@linked
def under_sheen(q: Any, cosine: float) -> float:
    """The share of light that the fibres leave to what lies below them (KHR_materials_sheen)."""
    if q[Q_SHEEN_MOST] <= 0:
        return 1.0
    taken = sheen_albedo(int(q[Q_SHEEN_TABLE]), cosine, q[Q_SHEEN_ALPHA])
    return 1.0 - q[Q_SHEEN_MOST] * taken


@inner
def only_mirrors(q: Any, diffuse: float, coat: float) -> bool:
    """Whether all that is left, with these chances of the other lobes, reflects or bends one way
    into one other: no lamp that is aimed at is seen in that.
    """
    return diffuse <= 0 and coat <= 0 and is_smooth(q)


@linked
def chances(q: Any, vz: float, thin: bool, straight: bool) -> Any:
    """How likely each lobe is sampled:

    (diffuse, gloss, coat, through), by about what it reflects; their sum is 1, or 0.

    With `straight` what goes through without bending was dealt with before, and is no lobe.
    """
    fr, fg, fb, most = dielectric(q, vz, thin)
    metal, clear = q[Q_METAL], q[Q_CLEAR]
    base = luma(q[Q_BR], q[Q_BG], q[Q_BB])
    coat = q[Q_COAT] * schlick(0.04, vz) if q[Q_COAT] > 0 else 0.0
    covered = 1.0 - coat
    below = covered * under_sheen(q, vz)
    gloss: float = below * (1.0 - metal) * luma(fr, fg, fb)
    if metal > 0:
        gloss += below * metal * schlick(base, vz)
    diffuse = below * (1.0 - metal - clear) * (1.0 - most) * base
    if q[Q_SHEEN_MOST] > 0:
        diffuse += (covered - below) * luma(q[Q_SHEEN_R], q[Q_SHEEN_G], q[Q_SHEEN_B])
        diffuse = max(diffuse, 1e-4)
    through = 0.0 if straight else below * clear * (1.0 - most) * base
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


@linked
def is_smooth(q: Any) -> bool:
    """Whether base gloss and transmission are mirrors without width: clear and polished."""
    return q[Q_CLEAR] > 0 and q[Q_ROUGHNESS] <= SMOOTHEST


@inner
def _set(q: Any, lobe: int, r: float, g: float, b: float, density: float) -> None:
    at = Q_LOBES + 4 * lobe
    q[at], q[at + 1], q[at + 2], q[at + 3] = r, g, b, density


@inner
def _turned(q: Any, x: float, y: float) -> Any:
    """A direction of the shading frame along and across the tangent."""
    c, s = q[Q_TURN_COSINE], q[Q_TURN_SINE]
    return c * x + s * y, c * y - s * x


@linked
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
    metal, clear = q[Q_METAL], q[Q_CLEAR]
    covered = 1.0 - q[Q_COAT] * schlick(0.04, vz) if q[Q_COAT] > 0 else 1.0
    below = covered
    if q[Q_SHEEN_MOST] > 0:
        below *= min(under_sheen(q, vz), under_sheen(q, abs(wz)))
    if wz > 0:
        hx, hy, hz = vx + wx, vy + wy, vz + wz
        n2 = hx * hx + hy * hy + hz * hz
        if n2 < 1e-24:
            return
        shorter = 1.0 / math.sqrt(n2)
        hx, hy, hz = hx * shorter, hy * shorter, hz * shorter
        vh = vx * hx + vy * hy + vz * hz
        fr, fg, fb, most = dielectric(q, vh, thin)
        cosine = wz * (1.0 / PI)
        soft = below * (1.0 - metal - clear) * (1.0 - most) * cosine
        sheen = 0.0
        if q[Q_SHEEN_MOST] > 0:
            sheen = covered * sheen_lobe(vz, wz, hz, q[Q_SHEEN_ALPHA])
        _set(
            q,
            0,
            soft * q[Q_BR] + sheen * q[Q_SHEEN_R],
            soft * q[Q_BG] + sheen * q[Q_SHEEN_G],
            soft * q[Q_BB] + sheen * q[Q_SHEEN_B],
            cosine,
        )
        if only == 0:
            return
        if most + metal > 0 and only != 2 and not is_smooth(q):
            if q[Q_ALONG] > 0:
                ax, ay = _turned(q, vx, vy)
                bx, by = _turned(q, wx, wy)
                gloss, density = ggx_along(ax, ay, vz, bx, by, wz, q[Q_ALONG], q[Q_ROUGHNESS])
            else:
                gloss, density = ggx(vz, wz, hz, vh, q[Q_ROUGHNESS])
            gloss *= below
            k = 1.0 - metal
            if metal > 0:
                _set(
                    q,
                    1,
                    gloss * (k * fr + metal * schlick(q[Q_BR], vh)),
                    gloss * (k * fg + metal * schlick(q[Q_BG], vh)),
                    gloss * (k * fb + metal * schlick(q[Q_BB], vh)),
                    density,
                )
            else:
                _set(q, 1, gloss * fr, gloss * fg, gloss * fb, density)
        if q[Q_COAT] > 0:
            gloss, density = ggx(vz, wz, hz, vh, q[Q_COAT_ALPHA])
            gloss *= q[Q_COAT] * schlick(0.04, vh)
            _set(q, 2, gloss, gloss, gloss, density)
        return
    if clear <= 0 or is_smooth(q):
        return
    _through(q, vx, vy, vz, wx, wy, wz, thin, below * clear)


@linked
def _through(
    q: Any,
    vx: float,
    vy: float,
    vz: float,
    wx: float,
    wy: float,
    wz: float,
    thin: bool,
    share: float,
) -> None:
    """The lobe of what a rough surface lets through, w on the other side of it."""
    alpha = q[Q_ROUGHNESS]
    if thin:
        # KHR_materials_transmission: a thin wall spreads what goes through as the mirror lobe, on
        # the other side.
        hx, hy, hz = vx + wx, vy + wy, vz - wz
        n = math.sqrt(hx * hx + hy * hy + hz * hz)
        hx, hy, hz = hx / n, hy / n, hz / n
        vh = vx * hx + vy * hy + vz * hz
        k, density = ggx(vz, -wz, hz, vh, alpha)
        _, _, _, most = dielectric(q, vh, thin)
        k *= share * (1.0 - most)
        _set(q, 3, k * q[Q_BR], k * q[Q_BG], k * q[Q_BB], density)
        return
    # Walter et al. 2007, equations 16 and 17; radiance is counted without the factor of the squared
    # index, which the way out of the glass takes back.
    eta = relative_index(q, thin)
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
    lv = smith_lambda(vz, alpha)
    shared = (
        ggx_density(hz, alpha) * vh / vz * eta * eta * -wh / ((vh + eta * wh) * (vh + eta * wh))
    )
    _, _, _, most = dielectric(q, vh, thin)
    k = share * (1.0 - most) * shared / (1.0 + lv + smith_lambda(-wz, alpha))
    _set(q, 3, k * q[Q_BR], k * q[Q_BG], k * q[Q_BB], shared / (1.0 + lv))


@linked
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
    if lobe == 1 and q[Q_ALONG] > 0 and not is_smooth(q):
        x, y = _turned(q, vx, vy)
        x, y, hz = sample_visible_normal_along(x, y, vz, q[Q_ALONG], q[Q_ROUGHNESS], a, b)
        c, s = q[Q_TURN_COSINE], q[Q_TURN_SINE]
        hx, hy = c * x - s * y, s * x + c * y
    elif lobe == 2 or not is_smooth(q):
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


@linked
def smooth_weight(q: Any, lobe: int, vz: float, thin: bool) -> Any:
    """What a mirror without width reflects (lobe 1) or lets through (lobe 3), by colour."""
    fr, fg, fb, most = dielectric(q, vz, thin)
    metal, clear = q[Q_METAL], q[Q_CLEAR]
    below = (1.0 - q[Q_COAT] * schlick(0.04, vz)) * under_sheen(q, vz)
    if lobe == 3:
        k = below * clear * (1.0 - most)
        return k * q[Q_BR], k * q[Q_BG], k * q[Q_BB]
    c = below * (1.0 - metal)
    k = below * metal
    return (
        c * fr + k * schlick(q[Q_BR], vz),
        c * fg + k * schlick(q[Q_BG], vz),
        c * fb + k * schlick(q[Q_BB], vz),
    )
