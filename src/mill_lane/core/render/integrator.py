"""Following one path from the camera, gathering light by aiming at lamps and by chance, weighed against each other.

Next-event estimation and BSDF sampling are combined with the power heuristic (Veach and Guibas 1995).  A surface that
lets light straight through (alpha, or thin glass) does not end a segment: the same path and the same shadow ray go on
behind it, up to the limit of transparent layers.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from mill_lane.core.render import world as w
from mill_lane.core.render.bsdf import evaluate, frame, fresnel, refract, sample
from mill_lane.core.render.jit import lean
from mill_lane.core.render.lights import FAR, sample_light, sky_density, sky_radiance
from mill_lane.core.render.media import collide, phase, sample_phase, transmittance
from mill_lane.core.render.sampler import pair
from mill_lane.core.render.surface import (
    base_colour,
    emitted,
    metal_and_rough,
    place,
    transmitted,
)
from mill_lane.core.render.traverse import closest

F = np.float32
PI = math.pi
M_IOR, M_THICK, M_ABSORB_R, M_TWO_SIDED, M_UNLIT = w.M_IOR, w.M_THICK, w.M_ABSORB_R, w.M_TWO_SIDED, w.M_UNLIT
TRIANGLE = w.TRIANGLE
EVENT = 6  # pairs of dimensions used by each event along a path
CAMERA_RAY, BOUNCE_RAY, SHADOW_RAY = 0, 1, 2
KINDS = ("camera", "bounce", "shadow")


@lean
def _nudge(p: Any, n: Any, side: float) -> Any:
    """A start just off a surface, far enough for float32 at this distance from the origin."""
    e = side * 2e-6 * (50.0 + abs(p[0]) + abs(p[1]) + abs(p[2]))
    return p[0] + e * n[0], p[1] + e * n[1], p[2] + e * n[2]


@lean
def _ray(world: Any, o: Any, d: Any, most: float, stack: Any) -> Any:
    return closest(world.accel, F(o[0]), F(o[1]), F(o[2]), F(d[0]), F(d[1]), F(d[2]), F(0), F(most), stack)


@lean
def _let_through(world: Any, hit: Any, d: Any) -> Any:
    """What goes straight on through a surface, by colour: alpha, and thin glass."""
    r, g, b, cover = base_colour(world, hit)
    f = world.surfaces.factors[hit.material]
    clear = transmitted(world, hit)
    if clear > 0 and f[M_THICK] <= 0:
        metallic, _ = metal_and_rough(world, hit)
        c = abs(hit.normal[0] * d[0] + hit.normal[1] * d[1] + hit.normal[2] * d[2])
        clear *= (1.0 - metallic) * (1.0 - fresnel(c, f[M_IOR]))
    else:
        clear = 0.0
    return 1 - cover + cover * clear * r, 1 - cover + cover * clear * g, 1 - cover + cover * clear * b


@lean
def _visible(world: Any, p: Any, d: Any, distance: float, layers: int, stack: Any, counts: Any) -> Any:
    """The share of light that reaches p from `distance` away, by colour."""
    r, g, b = 1.0, 1.0, 1.0
    left, o = distance, p
    fog = transmittance(world.media, p, d, distance)
    for _ in range(layers + 1):
        counts[SHADOW_RAY] += 1
        t, u, v, triangle, inst = _ray(world, o, d, left, stack)
        if inst < 0:
            return r * fog, g * fog, b * fog
        hit = place(world, triangle, inst, u, v, d, 1e-3)
        tr, tg, tb = _let_through(world, hit, d)
        r, g, b = r * tr, g * tg, b * tb
        if r + g + b < 1e-6:
            return 0.0, 0.0, 0.0
        o = _nudge(hit.p, hit.flat, -1.0)
        left -= t * 1.0001
        if left <= 0:
            return r * fog, g * fog, b * fog
    return 0.0, 0.0, 0.0


@lean
def _clamped(r: float, g: float, b: float, limit: float, depth: int) -> Any:
    """Light that arrived after a bounce, held to a luminance of `limit` (0: no limit)."""
    if limit <= 0 or depth == 0:
        return r, g, b
    luma = 0.2126 * r + 0.7152 * g + 0.0722 * b
    if luma <= limit:
        return r, g, b
    k = limit / luma
    return r * k, g * k, b * k


@lean
def trace(
    world: Any,
    origin: Any,
    direction: Any,
    spread: float,
    seed: Any,
    index: int,
    bounces: int,
    layer_limit: int,
    clamp: float,
    stack: Any,
    counts: Any,
    features: Any,
) -> Any:
    """The radiance along a camera ray (red, green, blue).

    `features` (float64, 8) receives albedo 3, normal 3, distance and the number of pass-through layers of the first
    surface that scatters; `counts` (int64, 3) adds up rays by kind; `stack` is scratch for the traversal.
    """  # fmt: skip
    lights, media = world.lights, world.media
    has_lights = lights.rows.shape[0] > 0
    red, green, blue = 0.0, 0.0, 0.0
    tr, tg, tb = 1.0, 1.0, 1.0
    ar, ag, ab = 0.0, 0.0, 0.0  # absorption of the glass that the path is in, per metre
    o, d = origin, direction
    density = -1.0  # of the last scattering; below 0 where no lamp could have been aimed at
    depth, layers, travelled = 0, 0, 0.0
    since = 0.0  # metres since the last scattering, straight through panes and holes
    recorded = False
    counts[CAMERA_RAY] += 1
    event = 0
    while event < 1000:
        dim = 1 + EVENT * event
        event += 1
        t, u, v, triangle, inst = _ray(world, o, d, FAR, stack)
        length = float(t) if inst >= 0 else FAR
        # Fog first: does the ray meet a particle before the surface?
        if media.shape[0] > 0:
            fog_u, fog_v = pair(seed, index, dim)
            at, box = collide(media, o, d, length, fog_u)
            if box >= 0:
                if depth > bounces:
                    break
                share = media[box, 6] / media[box, 7]
                tr, tg, tb = tr * share, tg * share, tb * share
                p = (o[0] + at * d[0], o[1] + at * d[1], o[2] + at * d[2])
                travelled += at
                g_ = media[box, 8]
                if has_lights:
                    pick, _ = pair(seed, index, dim + 3)
                    a, b = pair(seed, index, dim + 4)
                    lx, ly, lz, far, lr, lg, lb, chance, delta, row, lu, lv = sample_light(lights, p[0], p[1], p[2], pick, a, b)
                    if chance > 0:
                        f = phase(g_, lx * d[0] + ly * d[1] + lz * d[2])
                        weight = 1.0 if delta else chance * chance / (chance * chance + f * f)
                        lr, lg, lb = _lamp(world, lights.rows[row], lr, lg, lb, lu, lv, lx, ly, lz)
                        vr, vg, vb = _visible(world, p, (lx, ly, lz), far * 0.9999, layer_limit, stack, counts)
                        k = f * weight / chance
                        r, g, bl = _clamped(tr * vr * lr * k, tg * vg * lg * k, tb * vb * lb * k, clamp, depth)
                        red, green, blue = red + r, green + g, blue + bl
                cosine = sample_phase(g_, fog_v)
                turn, _ = pair(seed, index, dim + 2)
                sx, sy = frame(d[0], d[1], d[2])
                s = math.sqrt(max(0.0, 1 - cosine * cosine))
                x, y = s * math.cos(2 * PI * turn), s * math.sin(2 * PI * turn)
                d = (
                    x * sx[0] + y * sy[0] + cosine * d[0],
                    x * sx[1] + y * sy[1] + cosine * d[1],
                    x * sx[2] + y * sy[2] + cosine * d[2],
                )
                o = p
                since = 0.0
                density = phase(g_, cosine)
                depth += 1
                spread = max(spread, 0.05)
                counts[BOUNCE_RAY] += 1
                continue
        if inst < 0:
            lr, lg, lb = sky_radiance(lights.sky, d[1])
            weight = 1.0
            if density >= 0 and lights.sky_row >= 0:
                q = lights.chance[lights.sky_row] * sky_density(lights, d[0], d[1], d[2])
                weight = density * density / (density * density + q * q)
            r, g, b = _clamped(tr * lr * weight, tg * lg * weight, tb * lb * weight, clamp, depth)
            red, green, blue = red + r, green + g, blue + b
            break
        travelled += length
        since += length
        if ar + ag + ab > 0:
            tr, tg, tb = tr * math.exp(-ar * length), tg * math.exp(-ag * length), tb * math.exp(-ab * length)
        hit = place(world, triangle, inst, u, v, d, spread * travelled)
        factors = world.surfaces.factors[hit.material]
        br, bg, bb, cover = base_colour(world, hit)
        choice, lobe = pair(seed, index, dim + 1)
        if cover < 1.0:
            if choice >= cover:
                layers += 1
                if layers > layer_limit:
                    break
                o = _nudge(hit.p, hit.flat, -1.0)
                counts[BOUNCE_RAY] += 1
                continue
            choice /= cover
        # Light given off here, unless it was already counted by aiming at it.
        if hit.front > 0 or factors[M_TWO_SIDED] > 0:
            er, eg, eb = emitted(world, hit.material, hit.u, hit.v, hit.level)
            if er + eg + eb > 0:
                weight = 1.0
                first = world.surfaces.instances[inst, 2]
                if density >= 0 and first >= 0:
                    row = first + triangle - world.surfaces.parts[world.surfaces.instances[inst, 0], 2]
                    facing = abs(hit.flat[0] * d[0] + hit.flat[1] * d[1] + hit.flat[2] * d[2])
                    q = lights.chance[row] * since * since / max(lights.rows[row, 13] * facing, 1e-12)
                    weight = density * density / (density * density + q * q)
                r, g, b = _clamped(tr * er * weight, tg * eg * weight, tb * eb * weight, clamp, depth)
                red, green, blue = red + r, green + g, blue + b
        if factors[M_UNLIT] > 0:
            r, g, b = _clamped(tr * br, tg * bg, tb * bb, clamp, depth)
            red, green, blue = red + r, green + g, blue + b
            if not recorded:
                _record(features, (br, bg, bb), hit.normal, travelled, layers)
            break
        metallic, alpha = metal_and_rough(world, hit)
        clear = transmitted(world, hit) * (1.0 - metallic)
        n = hit.normal
        if clear > 0 and choice < clear:
            # A clear interface: reflect or go through, by the Fresnel equations.
            eta = factors[M_IOR]
            thin = factors[M_THICK] <= 0
            c = -(d[0] * n[0] + d[1] * n[1] + d[2] * n[2])
            leaving = hit.front < 0 and not thin
            mirror = fresnel(c, 1.0 / eta if leaving else eta)
            if lobe < mirror:
                if depth > bounces:
                    break
                depth += 1
                d = (d[0] + 2 * c * n[0], d[1] + 2 * c * n[1], d[2] + 2 * c * n[2])
                o = _nudge(hit.p, hit.flat, 1.0)
                if d[0] * hit.flat[0] + d[1] * hit.flat[1] + d[2] * hit.flat[2] <= 0:
                    break
                density = -1.0
            else:
                layers += 1
                if layers > layer_limit:
                    break
                tr, tg, tb = tr * br, tg * bg, tb * bb
                o = _nudge(hit.p, hit.flat, -1.0)
                if not thin:
                    d = refract(d[0], d[1], d[2], n[0], n[1], n[2], 1.0 / eta if leaving else eta)
                    density = -1.0
                    if leaving:
                        ar, ag, ab = 0.0, 0.0, 0.0
                    else:
                        ar, ag, ab = factors[M_ABSORB_R], factors[M_ABSORB_R + 1], factors[M_ABSORB_R + 2]
            counts[BOUNCE_RAY] += 1
            continue
        if not recorded:
            _record(features, (br, bg, bb), n, travelled, layers)
            recorded = True
        if depth > bounces:
            break  # this ray only went to see whether there is a lamp: the other half of aiming at one
        s, q_ = frame(n[0], n[1], n[2])
        base = (br, bg, bb)
        eta = factors[M_IOR]
        view = (
            -(d[0] * s[0] + d[1] * s[1] + d[2] * s[2]),
            -(d[0] * q_[0] + d[1] * q_[1] + d[2] * q_[2]),
            -(d[0] * n[0] + d[1] * n[1] + d[2] * n[2]),
        )
        start = _nudge(hit.p, hit.flat, 1.0)
        if has_lights:
            pick, _ = pair(seed, index, dim + 3)
            a, b = pair(seed, index, dim + 4)
            lx, ly, lz, far, lr, lg, lb, chance, delta, row, lu, lv = sample_light(
                lights, start[0], start[1], start[2], pick, a, b
            )
            if chance > 0 and lx * hit.flat[0] + ly * hit.flat[1] + lz * hit.flat[2] > 0:
                way = (
                    lx * s[0] + ly * s[1] + lz * s[2],
                    lx * q_[0] + ly * q_[1] + lz * q_[2],
                    lx * n[0] + ly * n[1] + lz * n[2],
                )
                fr, fg, fb, q = evaluate(base, metallic, alpha, eta, view, way)
                if fr + fg + fb > 0:
                    lr, lg, lb = _lamp(world, lights.rows[row], lr, lg, lb, lu, lv, lx, ly, lz)
                    if lr + lg + lb > 0:
                        weight = 1.0 if delta else chance * chance / (chance * chance + q * q)
                        vr, vg, vb = _visible(world, start, (lx, ly, lz), far * 0.9999, layer_limit, stack, counts)
                        k = weight / chance
                        r, g, b = _clamped(tr * fr * vr * lr * k, tg * fg * vg * lg * k, tb * fb * vb * lb * k, clamp, depth)
                        red, green, blue = red + r, green + g, blue + b
        a, b = pair(seed, index, dim + 2)
        x, y, z = sample(base, metallic, alpha, eta, view, lobe, a, b)
        if z <= 0:
            break
        fr, fg, fb, density = evaluate(base, metallic, alpha, eta, view, (x, y, z))
        if density <= 0:
            break
        tr, tg, tb = tr * fr / density, tg * fg / density, tb * fb / density
        if max(tr, max(tg, tb)) <= 0:
            break
        d = (
            x * s[0] + y * q_[0] + z * n[0],
            x * s[1] + y * q_[1] + z * n[1],
            x * s[2] + y * q_[2] + z * n[2],
        )
        if d[0] * hit.flat[0] + d[1] * hit.flat[1] + d[2] * hit.flat[2] <= 0:
            break
        o = start
        since = 0.0
        depth += 1
        spread = max(spread, 0.1 * math.sqrt(alpha))
        counts[BOUNCE_RAY] += 1
    return red, green, blue


@lean
def _record(features: Any, base: Any, n: Any, distance: float, layers: int) -> None:
    features[0], features[1], features[2] = base
    features[3], features[4], features[5] = n
    features[6], features[7] = distance, layers


@lean
def _lamp(world: Any, row: Any, r: float, g: float, b: float, u: float, v: float, x: float, y: float, z: float) -> Any:
    """The radiance of a picked light along (x, y, z) towards it; a glowing triangle's side and texture are looked up."""
    if int(row[0]) != TRIANGLE:
        return r, g, b
    nx, ny, nz = row[5] * row[9] - row[6] * row[8], row[6] * row[7] - row[4] * row[9], row[4] * row[8] - row[5] * row[7]
    if row[11] <= 0 and (nx * x + ny * y + nz * z) * row[10] >= 0:
        return 0.0, 0.0, 0.0
    inst, triangle = int(row[14]), int(row[15])
    s = world.surfaces
    part, material = s.instances[inst, 0], s.instances[inst, 1]
    tu, tv = 0.0, 0.0
    first_uv = s.parts[part, 1]
    if first_uv >= 0:
        shift = first_uv - s.parts[part, 0]
        i = np.int64(world.accel.triangles[triangle, 0]) + shift
        j = np.int64(world.accel.triangles[triangle, 1]) + shift
        k = np.int64(world.accel.triangles[triangle, 2]) + shift
        c = 1 - u - v
        tu = c * s.uvs[i, 0] + u * s.uvs[j, 0] + v * s.uvs[k, 0]
        tv = c * s.uvs[i, 1] + u * s.uvs[j, 1] + v * s.uvs[k, 1]
    return emitted(world, material, tu, tv, 0.0)
