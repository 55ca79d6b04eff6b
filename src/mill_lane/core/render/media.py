"""Fog in boxes: homogeneous, scattering by Henyey and Greenstein (1941), absorbing by Beer and Lambert."""

from __future__ import annotations

import math
from typing import Any

from mill_lane.core.render.jit import lean

PI = math.pi


@lean
def span(media: Any, i: int, o: Any, d: Any, most: float) -> Any:
    """Where a ray is inside box i: (start, end); start >= end when it is not."""
    start, end = 0.0, most
    for k in range(3):
        step = d[k] if abs(d[k]) > 1e-12 else 1e-12
        p, q = (media[i, k] - o[k]) / step, (media[i, 3 + k] - o[k]) / step
        start, end = max(start, min(p, q)), min(end, max(p, q))
    return start, end


@lean
def transmittance(media: Any, o: Any, d: Any, most: float) -> float:
    """The share of light that gets through all fog along a ray of length `most`."""
    depth = 0.0
    for i in range(media.shape[0]):
        start, end = span(media, i, o, d, most)
        if end > start:
            depth += (end - start) * media[i, 7]
    return math.exp(-depth)


@lean
def collide(media: Any, o: Any, d: Any, most: float, u: float) -> Any:
    """Where the ray first meets a particle: (distance, box), box -1 for nowhere before `most`.

    Overlapping boxes add up.  One number decides: the optical depth -ln(1 - u) is walked off through the boxes.
    """
    left = -math.log(max(1.0 - u, 1e-300))
    at = 0.0
    while at < most:
        rate, until, inside = 0.0, most, -1
        for i in range(media.shape[0]):
            start, end = span(media, i, o, d, most)
            if end > start:
                if start <= at + 1e-9 and end > at + 1e-9:
                    rate += media[i, 7]
                    until = min(until, end)
                    inside = i
                elif start > at:
                    until = min(until, start)
        if rate > 0 and left <= rate * (until - at):
            return at + left / rate, inside
        left -= rate * (until - at)
        at = until
    return most, -1


@lean
def phase(g: float, cosine: float) -> float:
    """Henyey-Greenstein, per steradian; `cosine` is between the way in and the way on."""
    k = max(1.0 + g * g - 2.0 * g * cosine, 1e-9)
    return (1.0 - g * g) / (4.0 * PI * k * math.sqrt(k))


@lean
def sample_phase(g: float, u: float) -> float:
    """The cosine of a scattering angle."""
    if abs(g) < 1e-3:
        return 1.0 - 2.0 * u
    k = (1.0 - g * g) / (1.0 + g - 2.0 * g * u)
    return (1.0 + g * g - k * k) / (2.0 * g)
