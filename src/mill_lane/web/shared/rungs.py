"""The ladder of savings as it is drawn: bars of what is needed after each rung."""

from __future__ import annotations

from dataclasses import dataclass

from mill_lane.core.trim import TRIMS
from mill_lane.core.trim.ladder import Ladder, Rung, TimeRung
from mill_lane.web.shared.format import gigabytes

WIDTH = 318.0  # pixels
SHOWN = 12  # rungs
COUNTED = ("none", "one brings", "two bring", "three bring", "four bring", "five bring")


@dataclass(frozen=True)
class RungLine:
    """A rung: what it is about, its bar in pixels, and whether it is staged as a whole."""

    rung: Rung
    label: str
    left: float
    saved: float
    staged: bool


@dataclass(frozen=True)
class LadderView:
    """The rungs that are shown, the post of the capacity, and what it says in words."""

    lines: list[RungLine]
    more: int
    post: float
    start: float
    sentence: str
    can_stage: bool


def ladder_view(ladder: Ladder, staged: set[str]) -> LadderView:
    """Lay a ladder out; `staged` has "TRIM/TARGET" of all that is staged."""
    scale = WIDTH / max(ladder.needed, ladder.capacity, 1)
    most = max(SHOWN, ladder.down_to or 0)
    lines = [
        RungLine(
            rung,
            _label(rung),
            round(max(rung.needed, 0) * scale, 2),
            round(rung.saved * scale, 2),
            all(f"{p.trim}/{p.target.key}" in staged for p in rung.proposals),
        )
        for rung in ladder.rungs[:most]
    ]
    first = lines[: ladder.down_to or 0]
    return LadderView(
        lines=lines,
        more=max(0, len(ladder.rungs) - most),
        post=round(ladder.capacity * scale, 2),
        start=round(ladder.needed * scale, 2),
        sentence=_sentence(ladder),
        can_stage=bool(first) and not all(x.staged for x in first),
    )


@dataclass(frozen=True)
class TimeLine:
    """What is left of the time of some crops: a bar in pixels, and whether it is staged."""

    rung: TimeRung
    label: str
    left: float
    saved: float
    staged: bool


def time_lines(rungs: list[TimeRung], staged: set[str]) -> list[TimeLine]:
    """Lay measured times out; what takes longer after it ends at the edge."""
    return [
        TimeLine(
            rung,
            _label(rung),
            round(min(rung.ratio, 1.0) * WIDTH, 2),
            round(max(1.0 - rung.ratio, 0.0) * WIDTH, 2),
            all(f"{p.trim}/{p.target.key}" in staged for p in rung.proposals),
        )
        for rung in rungs[:SHOWN]
    ]


def _label(rung: Rung | TimeRung) -> str:
    title = TRIMS[rung.trim].title
    if len(rung.proposals) == 1:
        return f"{title}: {rung.proposals[0].target.name}"
    return f"{title}: {len(rung.proposals):,}"


def _sentence(ladder: Ladder) -> str:
    free = gigabytes(ladder.capacity)
    if not ladder.rungs:
        return "Nothing is proposed that saves memory."
    last = gigabytes(ladder.rungs[-1].needed)
    if ladder.down_to == 0:
        return f"It fits as it is: {gigabytes(ladder.needed)} of {free}. All of it brings {last}."
    if ladder.down_to is None:
        return f"All of it brings {last}, more than the {free} there are."
    n = ladder.down_to
    words = COUNTED[n] if n < len(COUNTED) else f"{n} bring"
    if n == 1:
        return f"The first alone brings it under {free}."
    return f"The first {words} it under {free}; all of it brings {last}."
