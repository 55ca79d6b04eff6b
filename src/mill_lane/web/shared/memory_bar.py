"""The memory bar: one bar a device, its capacity as a post, memory as segments against it."""

from __future__ import annotations

from dataclasses import dataclass

from mill_lane.core.weigh.ledger import Ledger
from mill_lane.web.shared.format import gigabytes, size

TITLES = {
    "process": "Process",
    "textures": "Textures",
    "geometry": "Geometry",
    "acceleration": "Acceleration",
    "environment": "Environment",
    "film": "Film",
    "in_flight": "Samples in flight",
    "denoise": "Denoiser",
}


@dataclass(frozen=True)
class Segment:
    """A kind of memory on the bar; its colour is the token of its kind."""

    kind: str
    title: str
    amount: str
    x: float
    width: float  # within capacity
    over_x: float
    over_width: float  # beyond it
    label: bool  # room for its name on the bar


@dataclass(frozen=True)
class MemoryBar:
    """The segments, laid out in pixels."""

    segments: list[Segment]
    post: float
    end: float
    capacity: str
    needed: str
    width: float


def memory_bar(ledger: Ledger, free: int, width: float = 860.0) -> MemoryBar:
    """Lay the ledger out over `width` pixels."""
    total = ledger.whole
    scale = width / max(total, free, 1) * 0.97
    segments, at = [], 0.0
    for kind, n in [("process", ledger.process), *ledger.by_kind().items()]:
        if n <= 0:
            continue
        w = n * scale
        inside = max(0.0, min(w, free * scale - at))
        segments.append(
            Segment(
                kind,
                TITLES[kind],
                size(n),
                round(at, 2),
                round(inside, 2),
                round(at + inside, 2),
                round(w - inside, 2),
                w > 74,
            )
        )
        at += w
    return MemoryBar(
        segments, round(free * scale, 2), round(at, 2), gigabytes(free), gigabytes(total), width
    )
