"""The beam: one bar a device, its capacity as a post, memory as segments against it."""

from __future__ import annotations

from dataclasses import dataclass

from mill_lane.core.weigh.ledger import Ledger
from mill_lane.web.format import gigabytes, size

TITLES = {
    "textures": "Textures",
    "geometry": "Geometry",
    "acceleration": "Acceleration",
    "environment": "Environment",
    "film": "Film",
    "in_flight": "Samples in flight",
    "denoise": "Denoiser",
}
# Told apart without colour vision by lightness, by pattern and by the label on each (Okabe and
# Ito's hues, darkened).
COLOURS = {
    "geometry": "#b07d12",
    "acceleration": "#4f7d3a",
    "textures": "#33658a",
    "environment": "#7d7a74",
    "film": "#8a4f7d",
    "in_flight": "#b5562f",
    "denoise": "#2f8f8a",
}


@dataclass(frozen=True)
class Segment:
    kind: str
    title: str
    amount: str
    colour: str
    x: float
    width: float  # within capacity
    over_x: float
    over_width: float  # beyond it
    label: bool  # room for its name on the bar


@dataclass(frozen=True)
class Beam:
    segments: list[Segment]
    post: float
    end: float
    capacity: str
    needed: str
    width: float


def beam(ledger: Ledger, free: int, width: float = 860.0) -> Beam:
    """Lay the ledger out over `width` pixels."""
    total = ledger.total
    scale = width / max(total, free, 1) * 0.97
    segments, at = [], 0.0
    for kind, n in ledger.by_kind().items():
        if n <= 0:
            continue
        w = n * scale
        inside = max(0.0, min(w, free * scale - at))
        segments.append(
            Segment(
                kind,
                TITLES[kind],
                size(n),
                COLOURS[kind],
                round(at, 2),
                round(inside, 2),
                round(at + inside, 2),
                round(w - inside, 2),
                w > 74,
            )
        )
        at += w
    return Beam(
        segments, round(free * scale, 2), round(at, 2), gigabytes(free), gigabytes(total), width
    )
