"""The distance rule: textures that are larger than anything at their distance can show."""

from __future__ import annotations

from typing import Any

from mill_lane.core.weigh.analysis import Analysis, TextureRow
from mill_lane.core.weigh.rules.sizes import Limit, halvings

# Common practice: nearer than 3 m 4096 px, 3 to 10 m 2048 px, farther 1024 or 512 px.  The trade
# does
# not say where 512 begins; three times as far again is ours.
BANDS = ((3.0, 4096), (10.0, 2048), (30.0, 1024))
FARTHEST = 512


def side_limit(distance: float) -> int:
    """The longest side in pixels for something at this distance in metres.

    3 m itself belongs to the middle band, and so does 10 m ("3 to 10 m"); 30 m to the farthest.
    """
    if distance < BANDS[0][0]:
        return BANDS[0][1]
    if distance <= BANDS[1][0]:
        return BANDS[1][1]
    return BANDS[2][1] if distance < BANDS[2][0] else FARTHEST


def limits(analysis: Analysis, height: float) -> list[Limit]:
    """The textures that are larger than the rule asks, whatever the height of the picture.

    Missing textures and those that nothing uses are left alone.  Where the shot was looked at and
    shows more texels than the rule leaves, the facts say how many along the longer side.
    """
    out = []
    for t in analysis.textures:
        if t.missing or t.memory_bytes == 0 or t.nearest_m is None:
            continue
        limit = side_limit(t.nearest_m)
        if halvings(t.width, t.height, limit):
            facts: dict[str, Any] = {"nearest_m": t.nearest_m}
            need = _need(analysis, t, height)
            if need is not None and need > limit:
                facts["too_little_for"] = need
            out.append(Limit(t, limit, facts))
    return out


def _need(analysis: Analysis, t: TextureRow, height: float) -> int | None:
    """Texels along the longer side that a picture of that height shows; None where not known."""
    if analysis.visibility is None or t.texel_need is None or height <= 0:
        return None
    return round(max(t.texel_need) * height / analysis.visibility.height)
