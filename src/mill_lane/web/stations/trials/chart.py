"""Time against noise on log axes, laid out for SVG."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from mill_lane.jobs.lookup import TrialFigures
from mill_lane.web.shared.format import duration, percent


@dataclass(frozen=True)
class Point:
    """A trial in the chart: its place, pixels, and its number."""

    number: int
    x: float
    y: float
    mark: str
    here: bool  # measured here, not told of a picture made elsewhere


@dataclass(frozen=True)
class Chart:
    """Time against noise on log axes, laid out for SVG."""

    points: list[Point]
    x_ticks: list[tuple[float, str]]
    y_ticks: list[tuple[float, str]]
    steps: str


def chart(
    log: list[TrialFigures], a: int | None, b: int | None, width: float = 400, height: float = 190
) -> Chart | None:
    """Every trial of the crop that is shown, or of the newest; None when there are fewer than two.

    What was told of pictures made elsewhere is marked, and counts for no best.

    Parameters
    ----------
    log : list of TrialFigures
        Newest first.
    a, b : int or None
        Numbers of the trials that are shown.
    width, height : float
        Pixels.
    """
    crops = {r.number: r.crop for r in log}
    crop = next((crops[n] for n in (b, a, *crops) if n in crops), None)
    data = [r for r in log if r.crop == crop and r.seconds and r.noise]
    if len(data) < 2:
        return None
    left, right, top, bottom = 62.0, width - 14, 22.0, height - 24

    def scale(values: list[float], low: float, high: float) -> Any:
        a0, b0 = math.log10(min(values) / 1.3), math.log10(max(values) * 1.3)
        return lambda v: low + (math.log10(v) - a0) / (b0 - a0) * (high - low)

    times, noises = [r.seconds or 1.0 for r in data], [r.noise or 1.0 for r in data]
    fx, fy = scale(times, left, right), scale(noises, bottom, top)
    points = [
        Point(
            r.number,
            round(fx(r.seconds), 1),
            round(fy(r.noise), 1),
            "a" if r.number == a else "b" if r.number == b else "",
            r.here,
        )
        for r in data
    ]
    x_ticks = apart(
        [(round(fx(v), 1), duration(v)) for v in ticks(min(times) / 1.3, max(times) * 1.3)]
    )
    y_ticks = [(round(fy(v), 1), percent(v)) for v in ticks(min(noises) / 1.3, max(noises) * 1.3)]
    best = math.inf
    steps: list[str] = []
    for r in sorted((r for r in data if r.here), key=lambda r: (r.seconds or 0, r.noise or 0)):
        if (r.noise or math.inf) < best:
            best = r.noise or math.inf
            x, y = round(fx(r.seconds), 1), round(fy(r.noise), 1)
            steps.append(f"H{x}V{y}" if steps else f"M{x},{top}V{y}")
    return Chart(points, x_ticks, y_ticks, "".join([*steps, f"H{right}"] if steps else []))


def apart(marks: list[tuple[float, str]], room: float = 50) -> list[tuple[float, str]]:
    """The marks whose words do not run into each other, from the left; places in pixels."""
    out: list[tuple[float, str]] = []
    for at, text in marks:
        if not out or at - out[-1][0] >= room:
            out.append((at, text))
    return out


def ticks(low: float, high: float) -> list[float]:
    """Round numbers along a log axis:

    1, 2, 5 of each decade, or finer ones where that leaves fewer than three.
    """
    for steps in ((1, 2, 5), (1, 1.5, 2, 3, 4, 5, 6, 8), tuple(k / 10 for k in range(10, 100, 2))):
        found = [m * 10.0**e for e in range(-4, 6) for m in steps if low <= m * 10.0**e <= high]
        if len(found) >= 3:
            break
    return found[:: max(1, len(found) // 5)]
