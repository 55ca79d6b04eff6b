"""The footprint rule: textures that have more texels than the shot can show, as camera rays
found.
"""

from __future__ import annotations

from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.rules.sizes import Limit


def limits(analysis: Analysis, height: float) -> list[Limit]:
    """The textures that have more texels than a picture of that height shows.

    None before the scene was looked at; textures that no ray met are left alone.
    """
    if analysis.visibility is None:
        return []
    scale = height / analysis.visibility.height
    out = []
    for t in analysis.textures:
        n = t.halvings(scale)
        if t.missing or t.nearest_m is None or t.texel_need is None or not n:
            continue
        shown = [round(x * scale) for x in t.texel_need]
        facts = {"nearest_m": t.nearest_m, "shown": shown}
        out.append(Limit(t, max(max(t.width, t.height) >> n, 1), facts))
    return out
