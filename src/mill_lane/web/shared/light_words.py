"""What is known of each light, beside its switch: its part of the light, the time, the grain."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from mill_lane.core.weigh.analysis import Analysis
from mill_lane.web.shared.format import percent

SKY = "sky"


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
    said = {name: [f"{percent(share)} of the light"] for name, share in known.items()}
    for name, (time, grain) in _summed(lights).items():
        parts = [f"{percent(time)} of the time"]
        if grain is not None:
            parts.append(f"{percent(grain)} of the grain")
        said.setdefault(name, []).append(f"in trial {trial} {' and '.join(parts)}")
    return {name: ", ".join(parts) for name, parts in said.items()}


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
