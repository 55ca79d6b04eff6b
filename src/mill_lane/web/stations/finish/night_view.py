"""What the page of a night of frames shows: the sheet, its checks, and the run as it goes."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.core.cache import Cache
from mill_lane.core.errors import MillError
from mill_lane.core.plan.checks import Found
from mill_lane.core.plan.frames import frames_in_words
from mill_lane.core.plan.less_memory import RUNGS, Rung, foretold
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.plan.way import Way
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.words import plural
from mill_lane.jobs import nights, run_lookup
from mill_lane.jobs.delivering import delivered
from mill_lane.jobs.looks import look_of
from mill_lane.jobs.preflight import check_night
from mill_lane.jobs.run_lookup import FrameRow, Overview
from mill_lane.jobs.summary import Summary
from mill_lane.store.home import Home
from mill_lane.store.models import Render
from mill_lane.web.shared.format import duration, predicted

SHOWN = 60  # thumbnails at a time
STRIP, STRIP_RATE = 240, 6  # frames that are played, and how many a second
WIDE, HIGH = 860.0, 64.0  # of the row of bars
MOST_BARS, KEPT_BARS = 430, 8
KINDS = ("left", "done", "running", "marked", "failed")  # of bars, what matters least first


@dataclass(frozen=True)
class Bar:
    """A frame in the row of bars, in pixels: where, how high, what it is."""

    x: float
    width: float
    y: float
    height: float
    kind: str
    title: str


_bars = Cache[list[Bar]](KEPT_BARS)  # drawn anew only when something changed


def context(
    db: Session,
    home: Home,
    summary: Summary,
    folder: Path,
    run: int | None,
    at: int,
    frame: int | None,
) -> dict[str, Any]:
    """All that the page needs beside what every station has."""
    known = run_lookup.runs_of(db, summary.job)
    group = next((g for g in known if g.number == run), known[0] if known else None)
    seen = run_lookup.overview(db, group) if group is not None else None
    first, last = summary.analysis.frames
    sheet = nights.draft(db, summary.job)
    checks, trouble = checked(db, summary, sheet, folder)
    way = nights.way_for(db, summary.job, sheet, summary.final)
    rows = seen.rows if seen is not None else []
    begin = max(0, min(at, max(0, len(rows) - 1)) // SHOWN * SHOWN)
    chosen = next((r for r in rows if frame is not None and r.frame == frame), None)
    earlier = [r for r in rows if chosen and r.picture and r.frame < chosen.frame]
    return {
        "nights": known,
        "seen": seen,
        "sheet": sheet,
        "folder": folder,
        "example": _example(sheet, summary.analysis, first),
        "range_checks": checks,
        "range_trouble": trouble,
        "bars": bars(seen) if seen is not None else [],
        "wide": WIDE,
        "high": HIGH,
        "rows": rows[begin : begin + SHOWN],
        "begin": begin,
        "shown": SHOWN,
        "row_count": len(rows),
        "chosen": chosen,
        "cannot_add": _cannot_add(db, home, chosen, seen),
        "before": earlier[-1] if earlier else None,
        "small": run_lookup.newest_small(db, summary.version),
        "look": look_of(db, summary),
        "parts": run_lookup.parts_told(db, group)
        if group is not None and seen is not None and seen.settings.means.parts
        else None,
        "strip": strip_of(rows),
        "strip_rate": STRIP_RATE,
        "film": film_told([r.frame for r in rows if r.picture], summary.analysis.frame_rate),
        "heaviest": max(
            (r for r in rows if r.picture and r.seconds), key=lambda r: r.seconds or 0, default=None
        ),
        "marked": [r for r in rows if r.troubles or r.state == "failed"],
        "left_words": frames_in_words(seen.settings.left) if seen is not None else "",
        "time_left": _left(seen),
        "rungs": rungs_of(way, sheet),
        "way": way,
        "delivered": delivered(db, seen.group.id) if seen is not None else {},
        "scene_frames": (first, last),
    }


def _cannot_add(db: Session, home: Home, chosen: FrameRow | None, seen: Overview | None) -> str:
    """Why the chosen frame cannot get more samples, where its state is kept."""
    if chosen is None or seen is None or not chosen.kept:
        return ""
    return nights.not_to_be_added_to(home, db.get_one(Render, chosen.id), seen.settings)


def checked(
    db: Session, summary: Summary, sheet: RunSheet, folder: Path
) -> tuple[list[Found], MillError | None]:
    """What was found of a sheet, or what is wrong with the sheet itself."""
    try:
        return check_night(db, summary, sheet, folder), None
    except MillError as e:
        return [], e


@dataclass(frozen=True)
class RungLine:
    """A rung as it is listed: whether it is allowed, and what would be held after it."""

    rung: Rung
    on: bool
    left: int | None


def rungs_of(way: Way, sheet: RunSheet) -> list[RungLine]:
    """The rungs that are allowed in their order, then the others."""
    others = [RungLine(rung, False, None) for rung in RUNGS if rung.name not in sheet.rungs]
    return [*(RungLine(rung, True, left) for rung, left in foretold(way, sheet.rungs)), *others]


def film_told(frames: Sequence[int], rate: float) -> str:
    """How long a film of frames is, and how fast it runs, before it is made; empty for none."""
    if not frames or rate <= 0:
        return ""
    steps = {b - a for a, b in itertools.pairwise(sorted(frames))}
    text = f"{plural(len(frames), 'frame')} at {rate:g} a second: {duration(len(frames) / rate)}"
    if len(steps) != 1 or steps == {1}:
        return f"{text}." if len(steps) <= 1 else f"{text}; some frames between them are not there."
    (step,) = steps
    return (
        f"{text}, every {ordinal(step)} frame: {step} times as fast as the scene moves; "
        f"at {rate / step:g} a second as it does."
    )


def ordinal(n: int) -> str:
    """2nd, 3rd, 8th."""
    ending = "th" if n % 100 in (11, 12, 13) else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")
    return f"{n}{ending}"


def _example(sheet: RunSheet, analysis: Analysis, frame: int) -> str:
    try:
        sheet = sheet.by_camera(analysis.cameras, analysis.camera)[0][1]
        stem = sheet.pattern().path(frame)
    except MillError:
        return ""
    return ", ".join(f"{stem}{ending}" for ending in sheet.endings)


def _left(seen: Overview | None) -> str:
    if seen is None or seen.left is None:
        return ""
    if seen.left.seconds <= 0:
        return duration(0)
    return predicted(seen.left.seconds, seen.left.margin)


def strip_of(rows: list[FrameRow]) -> list[tuple[int, str]]:
    """Numbers and small pictures of the frames that are done, to be played; some of many."""
    done = [r for r in rows if r.thumbnail]
    return [(r.frame, f"/files/{r.thumbnail}.png") for r in done[:: -(-len(done) // STRIP) or 1]]


def bars(seen: Overview) -> list[Bar]:
    """A bar for each frame by number: as high as it took long; low where it is not done.

    Of many, neighbours share one: as high as the highest, marked where any of them is.
    """
    key = (seen.stamp, tuple(seen.settings.every))
    return _bars.get(key, lambda: _drawn(seen))


def _drawn(seen: Overview) -> list[Bar]:
    by_frame: dict[int, FrameRow] = {row.frame: row for row in seen.rows}
    numbers = sorted(set(seen.settings.every))
    if not numbers:
        return []
    each = -(-len(numbers) // MOST_BARS)
    groups = [numbers[k : k + each] for k in range(0, len(numbers), each)]
    width = WIDE / len(groups)
    most = max((row.seconds or 0.0 for row in seen.rows), default=0.0) or 1.0
    gap = min(1.0, width / 4)
    out = []
    for k, group in enumerate(groups):
        rows = [by_frame.get(n) for n in group]
        kinds = [_kind(row) for row in rows]
        worst = max(range(len(group)), key=lambda i: KINDS.index(kinds[i]))
        taken = [row.seconds or 0.0 for row in rows if row is not None and row.picture]
        height = round(max(4.0, max(taken, default=0.0) / most * (HIGH - 4)), 1)
        title = f"frame {group[worst]}: {_said(rows[worst])}"
        y = round(HIGH - height, 1)
        out.append(Bar(round(k * width, 2), round(width - gap, 2), y, height, kinds[worst], title))
    return out


def _kind(row: FrameRow | None) -> str:
    if row is None:
        return "left"
    if row.troubles:
        return "marked"
    if row.picture:
        return "done"
    return "failed" if row.state in ("failed", "cancelled") else "running"


def _said(row: FrameRow | None) -> str:
    if row is None:
        return "not begun"
    if row.troubles:
        return row.troubles[0]
    return duration(row.seconds or 0.0) if row.picture else row.state
