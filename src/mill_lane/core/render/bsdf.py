"""How surfaces scatter light:

a diffuse base under GGX, metal, clear dielectrics, sheen, and a coat of varnish over all.

glTF 2.0 appendix B gives the mix, KHR_materials_transmission, _volume, _specular, _sheen,
_anisotropy and _clearcoat the rest.  There are four lobes, each sampled for itself: diffuse (with
the sheen), gloss, coat, through.  Directions are in the shading frame.

All is lanes of float32: the surfaces of eight paths at once.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.lanes import (
    alike,
    bits,
    lane,
    least,
    most,
    root,
    size_of,
    where,
    with_lane,
)
from mill_lane.core.render.microfacet import (
    SMOOTHEST,
    fresnel,
    ggx,
    ggx_along,
    ggx_density,
    refract,
    sample_visible_normal,
    schlick,
    smith_lambda,
    turn,
)
from mill_lane.core.render.sheen import sheen_albedo, sheen_lobe
from mill_lane.core.render.side_by_side import following, own, take
from mill_lane.core.render.slots import (
    Q_ALONG,
    Q_BR,
    Q_CLEAR,
    Q_COAT,
    Q_COAT_ALPHA,
    Q_ETA,
    Q_FRONT,
    Q_METAL,
    Q_ROUGHNESS,
    Q_SHEEN_ALPHA,
    Q_SHEEN_MOST,
    Q_SHEEN_R,
    Q_SHEEN_TABLE,
    Q_SPECULAR,
    Q_SPECULAR_R,
    Q_THIN,
    Q_TURN_COSINE,
    Q_TURN_SINE,
)
from mill_lane.core.render.vec import Vec3, dot, either, times, vector_at

PI = math.pi
F = np.float32


class Material(NamedTuple):
    """Lanes of what the surfaces at the events of eight paths are."""

    base: Vec3
    metal: Any
    alpha: Any  # GGX's
    clear: Any
    coat: Any
    coat_alpha: Any
    index: Any  # behind the surface over the one before it
    thin: Any  # mask
    smooth: Any  # mask: base gloss and transmission are mirrors without width
    # KHR_materials_specular, where there is a share (mask)
    specular: Any
    share: Any
    tint: Vec3
    sheen: Any  # its largest channel


class Lobe(NamedTuple):
    """Lanes of a lobe times the cosine, by colour, and of its density."""

    colour: Vec3
    density: Any


@inner
def luma(r: Any, g: Any, b: Any) -> Any:
    """Luminance by Rec.709's weights."""
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


@inner
def is_smooth(q: Any) -> bool:
    """Whether one path's surface reflects and lets through as mirrors without width do: clear and
    polished.
    """
    return q[Q_CLEAR] > 0 and q[Q_ROUGHNESS] <= SMOOTHEST


@linked
def material_at(p: Any) -> Any:
    """The surfaces at the events of the paths."""
    thin = take(p, Q_THIN) > F(0)
    inside = (take(p, Q_FRONT) < F(0)) & ~thin
    eta = take(p, Q_ETA)
    clear, alpha, share = take(p, Q_CLEAR), take(p, Q_ROUGHNESS), take(p, Q_SPECULAR)
    return Material(
        vector_at(p, Q_BR),
        take(p, Q_METAL),
        alpha,
        clear,
        take(p, Q_COAT),
        take(p, Q_COAT_ALPHA),
        where(inside, F(1) / eta, eta),
        thin,
        (clear > F(0)) & (alpha <= F(SMOOTHEST)),
        (share >= F(0)) & ~inside,
        share,
        vector_at(p, Q_SPECULAR_R),
        take(p, Q_SHEEN_MOST),
    )


@inner
def dielectric(m: Material, cosine: Any) -> Any:
    """What dielectrics mirror, by colour, and what that takes from below (the largest of them).

    KHR_materials_specular: the reflectance at normal incidence is tinted, all of it is weighed.
    How it rises towards grazing angles is taken from the exact equations.
    """
    f = fresnel(cosine, m.index)
    plain = Vec3(f, f, f)
    if bits(m.specular) == 0:
        return plain, f
    up = (m.index - F(1)) / (m.index + F(1))
    f0 = up * up
    rise = (f - f0) / most(F(1) - f0, F(1e-6))
    r, g, b = least(f0 * m.tint.x, F(1)), least(f0 * m.tint.y, F(1)), least(f0 * m.tint.z, F(1))
    risen = Vec3(r + (F(1) - r) * rise, g + (F(1) - g) * rise, b + (F(1) - b) * rise)
    mirrored = either(m.specular, times(risen, m.share), plain)
    return mirrored, most(mirrored.x, most(mirrored.y, mirrored.z))


@linked
def _under_sheen(p: Any, sheen: Any, cosine: Any) -> Any:
    left, out = bits(sheen > F(0)), alike(sheen, F(1))
    while left != 0:
        k, left = following(left)
        q = own(p, k)
        taken = sheen_albedo(np.int64(q[Q_SHEEN_TABLE]), lane(cosine, k), q[Q_SHEEN_ALPHA])
        out = with_lane(out, k, 1.0 - q[Q_SHEEN_MOST] * taken)
    return out


@inner
def under_sheen(p: Any, m: Material, cosine: Any) -> Any:
    """The share of light that fibres leave to what lies below them (KHR_materials_sheen)."""
    if bits(m.sheen > F(0)) == 0:
        return alike(cosine, F(1))
    return _under_sheen(p, m.sheen, cosine)


@linked
def _sheen(p: Any, sheen: Any, vz: Any, wz: Any, hz: Any) -> Any:
    """The lobe of the fibres, without their colour."""
    left, out = bits((sheen > F(0)) & (vz > F(0)) & (wz > F(0))), alike(sheen, F(0))
    while left != 0:
        k, left = following(left)
        alpha = own(p, k)[Q_SHEEN_ALPHA]
        out = with_lane(out, k, sheen_lobe(lane(vz, k), lane(wz, k), lane(hz, k), alpha))
    return out


@inner
def only_mirrors(m: Material, diffuse: Any, coat: Any) -> Any:
    """Whether all that is left, with these chances of the other lobes, reflects or bends one way
    into one other: no lamp that is aimed at is seen in that.
    """
    return (diffuse <= F(0)) & (coat <= F(0)) & m.smooth


@linked
def chances(p: Any, m: Material, vz: Any) -> Any:
    """How likely each lobe is sampled:

    (diffuse, gloss, coat, through), by about what it reflects; their sum is 1, or 0.

    What goes through thin clear walls without bending was dealt with before, and is no lobe.
    """
    mirrored, taken = dielectric(m, vz)
    base = luma(m.base.x, m.base.y, m.base.z)
    coat = m.coat * schlick(F(0.04), vz)
    covered = F(1) - coat
    below = covered * under_sheen(p, m, vz)
    gloss = below * (F(1) - m.metal) * luma(mirrored.x, mirrored.y, mirrored.z)
    gloss = gloss + below * m.metal * schlick(base, vz)
    diffuse = below * (F(1) - m.metal - m.clear) * (F(1) - taken) * base
    fibres = m.sheen > F(0)
    if bits(fibres) != 0:
        tint = vector_at(p, Q_SHEEN_R)
        own_share = (covered - below) * luma(tint.x, tint.y, tint.z)
        diffuse = where(fibres, most(diffuse + own_share, F(1e-4)), diffuse)
    through = where(m.thin & m.smooth, F(0), below * m.clear * (F(1) - taken) * base)
    total = gloss + diffuse + through + coat
    # A share within rounding is none: with an index of 1 nothing is reflected.
    least_ = where(m.smooth, F(0), F(0.1) * total)
    alone = ~m.smooth & (diffuse >= total * F(1 - 1e-6))
    diffuse, gloss = _raised(diffuse, least_), where(alone, F(0), _raised(gloss, least_))
    coat = where(alone, F(0), _raised(coat, least_))
    through = where(alone, F(0), _raised(through, least_))
    # Two mirrors: each as often as it reflects, and every sample weighs the same.
    whole = gloss + diffuse + coat + through
    some = total > F(0)
    k = where(some, F(1) / where(some, whole, F(1)), F(0))
    return where(alone & some, F(1), diffuse * k), gloss * k, coat * k, through * k


@inner
def _raised(share: Any, least_: Any) -> Any:
    """No lobe is nearly left out: where one is small its samples would be rare and bright."""
    return where(share > F(0), most(share, least_), F(0))


@inner
def _turned(p: Any, a: Vec3) -> Any:
    """A direction of the shading frame along and across the tangent."""
    c, s = take(p, Q_TURN_COSINE), take(p, Q_TURN_SINE)
    return Vec3(c * a.x + s * a.y, c * a.y - s * a.x, a.z)


@inner
def _only(mask: Any, a: Vec3, density: Any) -> Any:
    return Lobe(
        Vec3(where(mask, a.x, F(0)), where(mask, a.y, F(0)), where(mask, a.z, F(0))),
        where(mask, density, F(0)),
    )


@inner
def _same_light(a: Any) -> Any:
    return Vec3(a, a, a)


@linked
def evaluate(p: Any, m: Material, v: Vec3, w: Vec3) -> Any:
    """Each lobe times the cosine, and its density, for viewers v and directions w.

    Both point away from the surface, z along the normal that faces the viewer.
    """
    seen = v.z > F(0)
    above, beyond = seen & (w.z > F(0)), seen & (w.z < F(0))
    coat = m.coat * schlick(F(0.04), v.z)
    covered = F(1) - coat
    below = covered
    fibres = bits(m.sheen > F(0)) != 0
    if fibres:
        below = covered * least(under_sheen(p, m, v.z), under_sheen(p, m, size_of(w.z)))
    hx, hy, hz = v.x + w.x, v.y + w.y, v.z + w.z
    n2 = hx * hx + hy * hy + hz * hz
    above = above & (n2 >= F(1e-24))
    shorter = F(1) / root(where(above, n2, F(1)))
    hx, hy, hz = hx * shorter, hy * shorter, hz * shorter
    vh = v.x * hx + v.y * hy + v.z * hz
    mirrored, taken = dielectric(m, vh)
    cosine = w.z * F(1.0 / PI)
    light = times(m.base, below * (F(1) - m.metal - m.clear) * (F(1) - taken) * cosine)
    if fibres:
        fibre, tint = covered * _sheen(p, m.sheen, v.z, w.z, hz), vector_at(p, Q_SHEEN_R)
        light = Vec3(light.x + fibre * tint.x, light.y + fibre * tint.y, light.z + fibre * tint.z)
    soft = _only(above, light, cosine)
    h2 = hx * hx + hy * hy
    vz, wz = where(above, v.z, F(1)), where(above, w.z, F(1))
    reflected, density = ggx(h2, vz, wz, hz, m.alpha)
    along = take(p, Q_ALONG)
    if bits(along > F(0)) != 0:
        a, b = _turned(p, v), _turned(p, w)
        lengthwise = where(along > F(0), along, F(1))
        other, own_density = ggx_along(a.x, a.y, vz, b.x, b.y, wz, lengthwise, m.alpha)
        reflected = where(along > F(0), other, reflected)
        density = where(along > F(0), own_density, density)
    reflected = reflected * below
    k, metal = reflected * (F(1) - m.metal), reflected * m.metal
    light = Vec3(
        k * mirrored.x + metal * schlick(m.base.x, vh),
        k * mirrored.y + metal * schlick(m.base.y, vh),
        k * mirrored.z + metal * schlick(m.base.z, vh),
    )
    gloss = _only(above & ~m.smooth & (taken + m.metal > F(0)), light, density)
    none = alike(density, F(0))
    varnish = through = Lobe(Vec3(none, none, none), none)
    if bits(m.coat > F(0)) != 0:
        reflected, density = ggx(h2, vz, wz, hz, m.coat_alpha)
        light = _same_light(reflected * (m.coat * schlick(F(0.04), vh)))
        varnish = _only(above & (m.coat > F(0)), light, density)
    rough = beyond & (m.clear > F(0)) & ~m.smooth
    if bits(rough) != 0:
        through = _through(m, v, w, below * m.clear, rough)
    return soft, gloss, varnish, through


@linked
def _through(m: Material, v: Vec3, w: Vec3, share: Any, rough: Any) -> Any:
    """The lobe of what rough surfaces let through, w on the other side of them."""
    # KHR_materials_transmission: a thin wall spreads what goes through as the mirror lobe, on the
    # other side; else Walter et al. 2007, equations 16 and 17.  Radiance is counted without the
    # factor of the squared index, which the way out of the glass takes back.
    hx = where(m.thin, v.x + w.x, F(0) - (v.x + m.index * w.x))
    hy = where(m.thin, v.y + w.y, F(0) - (v.y + m.index * w.y))
    hz = where(m.thin, v.z - w.z, F(0) - (v.z + m.index * w.z))
    n2 = hx * hx + hy * hy + hz * hz
    bent = rough & (n2 >= F(1e-12))
    k = F(1) / root(where(bent, n2, F(1)))
    k = where(hz < F(0), F(0) - k, k)
    h = Vec3(hx * k, hy * k, hz * k)
    vh, wh = dot(v, h), dot(w, h)
    vz, wz = where(rough, v.z, F(1)), where(rough, F(0) - w.z, F(1))
    h2 = h.x * h.x + h.y * h.y
    _, taken = dielectric(m, vh)
    mirror, density = ggx(h2, vz, wz, h.z, m.alpha)
    lv = smith_lambda(vz, m.alpha)
    both = vh + m.index * wh
    both = where(m.thin | ~bent, F(1), both)
    shared = (
        ggx_density(h2, h.z, m.alpha) * vh / vz * m.index * m.index * (F(0) - wh) / (both * both)
    )
    bent = bent & (m.thin | ((vh > F(0)) & (wh < F(0))))
    lobe = where(m.thin, mirror, shared / (F(1) + lv + smith_lambda(wz, m.alpha)))
    density = where(m.thin, density, shared / (F(1) + lv))
    return _only(bent, times(m.base, share * (F(1) - taken) * lobe), density)


@linked
def sample(p: Any, m: Material, lobe: Any, v: Vec3, a: Any, b: Any) -> Any:
    """Directions of one lobe (0 to 3, lanes) for the viewers v, as `evaluate` has them; (0, 0, 0)
    where a path ends.
    """
    r = root(a)
    c, s = turn(b)
    soft = Vec3(r * c, r * s, root(most(F(1) - a, F(0))))
    glossy = lobe > F(0.5)
    if bits(glossy) == 0:
        return soft
    coat, through = (lobe > F(1.5)) & (lobe < F(2.5)), lobe > F(2.5)
    alpha = where(coat, m.coat_alpha, m.alpha)
    along = take(p, Q_ALONG)
    stretched = ~coat & ~through & (along > F(0))
    x, y = v.x, v.y
    c, s = take(p, Q_TURN_COSINE), take(p, Q_TURN_SINE)
    lengthwise = alpha
    if bits(stretched) != 0:
        x, y = where(stretched, c * x + s * y, x), where(stretched, c * y - s * x, y)
        lengthwise = where(stretched, along, alpha)
    hx, hy, hz = sample_visible_normal(x, y, v.z, lengthwise, alpha, a, b)
    if bits(stretched) != 0:
        hx, hy = where(stretched, c * hx - s * hy, hx), where(stretched, s * hx + c * hy, hy)
    mirror = m.smooth & ~coat
    hx, hy, hz = where(mirror, F(0), hx), where(mirror, F(0), hy), where(mirror, F(1), hz)
    vh = v.x * hx + v.y * hy + v.z * hz
    wx, wy, wz = F(2) * vh * hx - v.x, F(2) * vh * hy - v.y, F(2) * vh * hz - v.z
    goes = wz > F(0)
    wz = where(through & m.thin, F(0) - wz, wz)
    bends = through & ~m.thin
    if bits(bends) != 0:
        x, y, z = refract(F(0) - v.x, F(0) - v.y, F(0) - v.z, hx, hy, hz, m.index)
        wx, wy, wz = where(bends, x, wx), where(bends, y, wy), where(bends, z, wz)
        goes = where(bends, (z < F(0)) & (fresnel(vh, m.index) < F(1)), goes)
    reflected = Vec3(where(goes, wx, F(0)), where(goes, wy, F(0)), where(goes, wz, F(0)))
    return either(glossy, reflected, soft)


@linked
def smooth_weight(p: Any, m: Material, through: Any, vz: Any) -> Any:
    """What mirrors without width reflect, or let through (mask), by colour."""
    mirrored, taken = dielectric(m, vz)
    below = (F(1) - m.coat * schlick(F(0.04), vz)) * under_sheen(p, m, vz)
    c, k = below * (F(1) - m.metal), below * m.metal
    reflected = Vec3(
        c * mirrored.x + k * schlick(m.base.x, vz),
        c * mirrored.y + k * schlick(m.base.y, vz),
        c * mirrored.z + k * schlick(m.base.z, vz),
    )
    return either(through, times(m.base, below * m.clear * (F(1) - taken)), reflected)
