"""What is known of each light, beside its switch: its part of the light, the time, the grain."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from mill_lane.core.weigh.analysis import Analysis
from mill_lane.web.shared.format import percent

SKY = "sky"
LEAST = 0.001  # below which a part is nothing to anybody


def light_words(
    analysis: Analysis, lights: Iterable[Mapping[str, Any]] = (), trial: int = 0
) -> dict[str, str]:
    """Words for each light by name; none where nothing is known of it.

    Parameters
    ----------
    analysis : Analysis
        What weighing found: the part of each in the light of the picture.
    lights : iterable of mapping
        What a trial's profile keeps: `name`, `share` (of the thread time, by the work counted),
        `noise` (of the variance, which may be None).
    trial : int
        Its number.
    """
    known = {x.name: x.share for x in analysis.lights if x.share is not None}
    if analysis.visibility is not None and analysis.visibility.sky_share is not None:
        known[SKY] = analysis.visibility.sky_share
    said = {name: [f"{_part(share)} of the light"] for name, share in known.items()}
    for name, (time, grain) in _summed(lights).items():
        parts = [f"{_part(time)} of the time"]
        if grain is not None:
            parts.append(f"{_part(grain)} of the grain")
        said.setdefault(name, []).append(f"trial {trial}: {', '.join(parts)}")
    return {name: "; ".join(parts) for name, parts in said.items()}


def _part(share: float) -> str:
    """In percent, as far as it tells anything."""
    return percent(share) if abs(share) >= LEAST else f"under {100 * LEAST:g} %"


def _summed(lights: Iterable[Mapping[str, Any]]) -> dict[str, tuple[float, float | None]]:
    """Parts of the time and of the variance by name: several lamps may have one."""
    out: dict[str, tuple[float, float | None]] = {}
    for row in lights:
        time, grain = out.get(row["name"], (0.0, 0.0))
        noise = row.get("noise")
        out[row["name"]] = (
            time + float(row["share"]),
            None if grain is None or noise is None else grain + float(noise),
        )
    return out
