"""The footprint rule: textures that have more texels than the shot can show, as camera rays found."""

from __future__ import annotations

from mill_lane.core.trim.distance import Proposal, shrunk
from mill_lane.core.weigh.analysis import Analysis


def by_footprint(analysis: Analysis, scale: float = 1.0) -> list[Proposal]:
    """What the texel need asks for, the largest saving first; none before the scene was looked at.

    `scale` is the height of the final picture over `Visibility.height`.  Textures that no ray met are
    left alone.
    """
    out = []
    for t in analysis.textures:
        n = t.halvings(scale)
        if t.missing or t.nearest_m is None or t.texel_need is None or not n:
            continue
        limit = max(max(t.width, t.height) >> n, 1)
        new, held = shrunk(t, limit)
        across, down = (round(x * scale) for x in t.texel_need)
        why = f"the shot shows {across} x {down} of it"
        out.append(
            Proposal(
                t.index, t.name, t.nearest_m, (t.width, t.height), new, t.memory_bytes, held, why
            )
        )
    return sorted(out, key=lambda p: (-p.saves, p.image))
