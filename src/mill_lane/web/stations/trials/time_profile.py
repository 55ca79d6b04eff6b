"""Where a trial's time and grain come from, as bars."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from mill_lane.core.denoise.names import TITLES
from mill_lane.core.render.layers import pictures
from mill_lane.web.shared.format import percent, three

DIVISIONS = (
    ("kinds", "kind of ray"),
    ("bounces", "bounce"),
    ("components", "component"),
    ("objects", "object"),
    ("materials", "material"),
    ("lights", "light"),
)
MOST = 40


@dataclass(frozen=True)
class Bar:
    """A part of the whole, as a row with a bar."""

    name: str
    seconds: str
    share: str
    width: float  # of the widest, 0 to 100
    rays: str
    light: str
    noise: str


@dataclass(frozen=True)
class Answer:
    """A what-if: factors on time and noise in words."""

    text: str
    time: str
    noise: str


@dataclass(frozen=True)
class Panel:
    """The time profile of a trial by one division."""

    title: str
    division: str
    bars: list[Bar]
    more: int
    answers: list[Answer]
    total: str
    has_light: bool
    fitted: bool


def component_name(key: str) -> str:
    """The title of a component of light."""
    known = pictures()
    return known[key].title if key in known else key.replace("_", ", ")


def panel(profile: dict[str, Any], division: str, number: int) -> Panel | None:
    """The panel of a trial's profile; None where none was kept."""
    if not profile or not profile.get("seconds"):
        return None
    division = division if division in dict(DIVISIONS) else "kinds"
    rows = profile[division]
    widest = max((r["share"] for r in rows), default=0.0) or 1.0
    has_light = any(r.get("light") is not None for r in rows)
    bars = [
        Bar(
            component_name(r["name"]) if division == "components" else r["name"],
            f"{three(r['seconds'])} s",
            percent(r["share"]),
            round(100 * r["share"] / widest, 1),
            f"{r['rays']:,}" if r["rays"] else "",
            percent(r["light"]) if r.get("light") is not None else "",
            percent(r["noise"]) if r.get("noise") is not None else "",
        )
        for r in rows[:MOST]
    ]
    answers = [
        Answer(a["text"], _factor(a["time"]), _factor(a["noise"]))
        for a in sorted(
            profile["what_if"],
            key=lambda a: (a["noise"] if a["noise"] is not None else 1.0) * a["time"] ** 0.5,
        )
    ]
    return Panel(
        f"Trial {number}",
        division,
        bars,
        max(0, len(rows) - MOST),
        answers[:12],
        f"{three(profile['seconds'])} s",
        has_light,
        bool(profile.get("fitted")),
    )


def _factor(x: float | None) -> str:
    """A change in percent: −12 %, +3 %, as it is."""
    if x is None:
        return "–"
    change = round((x - 1) * 100)
    return "as it is" if change == 0 else f"{'−' if change < 0 else '+'}{abs(change)} %"


def layer_choices(*kept: dict[str, Any]) -> list[tuple[str, str]]:
    """What the viewer can show of the trials that are shown: (name, title), the picture first."""
    names = {name for layers in kept for name, entry in layers.items() if entry["hash"]}
    known = [p for p in pictures().values() if p.name in names or p.name == "beauty"]
    lights = sorted(n for n in names if n.startswith("light "))
    made = [(n, title) for n, title in TITLES.items() if n in names]
    return [*((p.name, p.title) for p in known), *made, *((n, n) for n in lights)]
