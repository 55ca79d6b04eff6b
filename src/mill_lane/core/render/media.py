"""Fog in boxes:

homogeneous, scattering by Henyey and Greenstein (1941), absorbing by Beer and Lambert.
"""

from __future__ import annotations

import math
from typing import Any

from mill_lane.core.render.jit import linked
from mill_lane.core.render.pointers import f64_at
from mill_lane.core.render.slots import *
from mill_lane.core.render.traverse import ray_of

PI = math.pi


@linked
def span(
    media: Any,
    i: int,
    ray: Any,
    most: float,
) -> Any:
    """Where a ray (`traverse.ray_of`) is inside box i, metres along it: (start, end); start >= end
    when it is not.
    """
    at = MEDIUM_COLUMNS * i
    start, end = 0.0, most
    for k in range(3):
        o, d = ray[0][k], ray[1][k]
        step = d if abs(d) > 1e-12 else 1e-12
        p, q = (media[at + k] - o) / step, (media[at + 3 + k] - o) / step
        start, end = max(start, min(p, q)), min(end, max(p, q))
    return start, end


@linked
def crossed(w: Any, q: Any, most: float) -> bool:
    """Whether the path's ray runs through any box of fog before `most`."""
    boxes, ray = f64_at(w[W_MEDIA]), ray_of(q)
    for i in range(w[W_MEDIA_COUNT]):
        start, end = span(boxes, i, ray, most)
        if start < end:
            return True
    return False


@linked
def transmittance(
    media: Any,
    n: int,
    ray: Any,
    most: float,
) -> float:
    """The share of light that gets through all n boxes of fog along a ray of length `most`."""
    depth = 0.0
    for i in range(n):
        start, end = span(media, i, ray, most)
        if end > start:
            depth += (end - start) * media[MEDIUM_COLUMNS * i + D_EXTINCTION]
    return math.exp(-depth)


@linked
def collide(
    media: Any,
    n: int,
    ray: Any,
    most: float,
    u: float,
) -> Any:
    """Where the ray first meets a particle: (distance, box), box -1 for nowhere before `most`.

    Overlapping boxes add up: the box is one of those that are there, as likely as it is dense.  One
    number decides: the optical depth -ln(1 - u) is walked off through the boxes.
    """
    left = -math.log(max(1.0 - u, 1e-300))
    at = 0.0
    while at < most:
        rate, until = 0.0, most
        for i in range(n):
            start, end = span(media, i, ray, most)
            if end > start:
                if start <= at + 1e-9 and end > at + 1e-9:
                    rate += media[MEDIUM_COLUMNS * i + D_EXTINCTION]
                    until = min(until, end)
                elif start > at:
                    until = min(until, start)
        if rate > 0 and left <= rate * (until - at):
            # Which of the boxes here: a number made of u's last digits, against the shares of their
            # densities.
            mark, inside = (u * 7919.0) % 1.0 * rate, -1
            for i in range(n):
                start, end = span(media, i, ray, most)
                if end > start and start <= at + 1e-9 and end > at + 1e-9:
                    if mark >= 0:
                        inside = i
                    mark -= media[MEDIUM_COLUMNS * i + D_EXTINCTION]
            return at + left / rate, inside
        left -= rate * (until - at)
        at = until
    return most, -1


@linked
def phase(g: float, cosine: float) -> float:
    """Henyey-Greenstein, per steradian; `cosine` is between the way in and the way on."""
    k = max(1.0 + g * g - 2.0 * g * cosine, 1e-9)
    return (1.0 - g * g) / (4.0 * PI * k * math.sqrt(k))


@linked
def sample_phase(g: float, u: float) -> float:
    """The cosine of a scattering angle."""
    if abs(g) < 1e-3:
        return 1.0 - 2.0 * u
    k = (1.0 - g * g) / (1.0 + g - 2.0 * g * u)
    return (1.0 + g * g - k * k) / (2.0 * g)
