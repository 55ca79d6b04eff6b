"""What the Trim station shows."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import urlencode

from sqlalchemy.orm import Session

from mill_lane.core.formats.units import NAMES
from mill_lane.core.trim import TRIMS
from mill_lane.core.trim.dicing import Outcome, side_by_side
from mill_lane.core.trim.groups import GROUPINGS, grouped
from mill_lane.core.trim.ladder import time_rungs
from mill_lane.core.trim.model import Change
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.ledger import draw_up, judge
from mill_lane.core.weigh.rules import RULES
from mill_lane.core.words import plural
from mill_lane.jobs import costs, proposals, trims
from mill_lane.jobs.costs import Cost
from mill_lane.jobs.proposals import Proposals
from mill_lane.jobs.savings import changes_of, ladder_for, seconds_of
from mill_lane.jobs.summary import Summary
from mill_lane.store.models import SceneVersion, Task, TrimEntry
from mill_lane.web.shared.format import size
from mill_lane.web.shared.rungs import ladder_view, time_lines
from mill_lane.web.shared.station import Figure, Mark
from mill_lane.web.stations.trim.table import (
    MOST_ROWS,
    SORTS,
    Field,
    fields_of,
    lines_of,
    rows_of,
    values_of,
)

READ_AS = "read as {} with {} up"
# Where a crop shows what a trim is about, in words.
SHOWS = {
    "direct": "seen directly",
    "reflection": "by reflection or bounced light",
    "shadow": "by its shadow",
    "change": "where it changes most",
}
SIZES, LEVELS, COPIES = "texture_size", "dicing", "copies"


@dataclass(frozen=True)
class Asked:
    """What the address asks for: a trim or all ("") with its parameters, order and filter."""

    trim: str = ""
    sort: str = "memory"
    find: str = ""
    edit: str = ""
    look: str = ""
    by: str = ""
    open: str = ""
    values: Mapping[str, Any] | None = None

    def link(self, **changes: str) -> str:
        """The address of the same view with something changed."""
        own = {"trim": self.trim, "find": self.find, **(self.values or {})}
        own |= {"sort": "" if self.sort == "memory" else self.sort, "by": self.by}
        own |= {"open": self.open} if "by" not in changes else {}
        return "?" + urlencode({k: v for k, v in (own | changes).items() if v not in ("", None)})


def asked_in(query: Mapping[str, str]) -> Asked:
    """What an address asks for.

    Raises
    ------
    NotFoundError
        For a trim that is not there.
    """
    trim = query.get("trim", "")
    if "rule" in query and not trim:
        trim = SIZES
    model = proposals.find_trim(trim).parameters_type if trim else None
    values = (
        values_of(model, query) if model and any(k in query for k in model.model_fields) else {}
    )
    sort = query.get("sort", "memory")
    return Asked(
        trim,
        sort if sort in SORTS else "memory",
        query.get("find", "")[:200],
        query.get("edit", "")[:200],
        query.get("look", "")[:200],
        query.get("by", "") if query.get("by", "") in GROUPINGS.names else "",
        query.get("open", "")[:400],
        values,
    )


def figure(summary: Summary) -> Figure:
    """What is staged, or how much there is to look at."""
    mark: Mark = "look" if summary.proposals else "order"
    if summary.staged:
        return Figure(f"{summary.staged} staged", mark)
    found = f"{summary.proposals} to look at" if summary.proposals else "nothing to trim"
    return Figure(found, mark)


@dataclass(frozen=True)
class Tab:
    """A trim among the tabs, and how much it proposes; None while that is not known."""

    name: str
    title: str
    count: int | None


def context(db: Session, summary: Summary, asked: Asked) -> dict[str, Any]:
    """All that the page needs beside what every station has."""
    a, device = summary.analysis, summary.device
    entries = trims.staged(db, summary.version)
    every = summary.proposed
    values = dict(asked.values or {})
    if values.get("rule") == "footprint" and a.visibility is None:
        del values["rule"]  # what the shot shows is not known yet
    if values:
        own = proposals.propose(db, summary.job, asked.trim, values)
        every = [own if x.trim.name == asked.trim else x for x in every]
    shown = [x for x in every if not asked.trim or x.trim.name == asked.trim]
    rows = rows_of(shown, entries, asked.sort, asked.find)
    lines = lines_of(rows, asked.by or COPIES, a, asked.open, asked.sort)
    after_analysis = trims.foreseen(a, entries)
    after = draw_up(after_analysis, summary.final, device)
    can = [p for x in every for p in x.found if not p.left_alone]
    known = costs.costs_of(db, summary.version)
    rungs = ladder_for(db, summary)
    one = shown[0] if asked.trim else None
    listed = {f"{e.trim}/{e.target}" for e in entries}
    choices = [trims.choice_of(e) for e in entries]
    return {
        "asked": asked,
        "tabs": tabs(every, {asked.trim, LEVELS if a.has_surfaces else ""}),
        "one": one,
        "head": head_of(every, one, summary, rungs.rungs[-1].needed if rungs.rungs else None),
        "rows": rows,
        "lines": lines[:MOST_ROWS],
        "more_rows": max(0, len(lines) - MOST_ROWS),
        "groupings": GROUPINGS,
        "by": asked.by or COPIES,
        "fields": parameter_fields(one),
        "rule": getattr(one.parameters, "rule", "") or rule_of(one) if one else "",
        "surfaces": side_by_side(a, summary.height) if one and one.trim.name == LEVELS else [],
        "rules": RULES.names if one and one.trim.name == SIZES else [],
        "too_much": sum("too_little_for" in r.proposal.facts for r in rows),
        "staged": staged_lines(a, entries, known),
        "staged_count": len(entries),
        "shows": SHOWS,
        "look": look_of(a, asked, known, every, entries),
        "all_cost": known.get(costs.key_of(choices)) if choices else None,
        "measuring": [c.task for c in known.values() if not c.task.over],
        "can_stage": any(not r.exact and not r.proposal.left_alone for r in rows),
        "after": judge(after, device.free_bytes),
        "saved": summary.ledger.total - after.total,
        "triangles_after": after_analysis.triangles,
        "ladder": ladder_view(rungs, listed),
        "times": time_lines(time_rungs(can, seconds_of(known), changes_of(known)), listed),
        "waits": [x for x in every if not x.ready],
    }


def surfaces_of(analysis: Analysis, summary: Summary, one: Proposals | None) -> list[list[Outcome]]:
    """The table of subdivision surfaces, where the page is about their levels."""
    if one is None or one.trim.name != LEVELS:
        return []
    return side_by_side(analysis, summary.height)


def tabs(every: Sequence[Proposals], always: Collection[str] = ()) -> list[Tab]:
    """All trims that propose something, or may, and those that are always shown."""
    out = []
    for x in every:
        count = sum(not p.left_alone for p in x.found) if x.ready else None
        if x.found or not x.ready or x.trim.name in always:
            out.append(Tab(x.trim.name, x.trim.title, count))
    return out


def rule_of(found: Proposals) -> str:
    """The rule that proposals went by, where nobody chose one."""
    return next((str(p.facts["rule"]) for p in found.found if "rule" in p.facts), "")


def parameter_fields(found: Proposals | None) -> list[Field]:
    """What can be asked otherwise of the trim that is shown."""
    if found is None:
        return []
    return fields_of(found.trim.parameters_type, found.parameters.model_dump(mode="json"))


def head_of(
    every: Sequence[Proposals], one: Proposals | None, summary: Summary, least: int | None
) -> str:
    """The page's heading: how much there is to trim."""
    found = [one] if one else every
    count = sum(not p.left_alone for x in found for p in x.found)
    if one:
        what = plural(count, "proposal") if count else "nothing to propose"
        return f"{one.trim.title}: {what if one.ready else 'not worked out yet'}"
    if not count:
        return "Nothing to propose"
    if least is None:
        return plural(count, "proposal")
    return f"{plural(count, 'proposal')}: {size(summary.ledger.whole)} could be {size(least)}"


@dataclass(frozen=True)
class StagedLine:
    """An entry of the trim list, or several that are one: in words."""

    entry: TrimEntry
    title: str
    saved: int
    cost: Cost | None
    targets: list[str]

    @property
    def address(self) -> str:
        """By which its row is found."""
        return f"{self.entry.trim}/{self.entry.target}"


def staged_lines(
    analysis: Analysis, entries: Sequence[TrimEntry], known: Mapping[str, Cost]
) -> list[StagedLine]:
    """The trim list with copies as one."""
    choices = [trims.choice_of(e) for e in entries]
    entry = {id(c): e for c, e in zip(choices, entries, strict=True)}
    out = []
    for members in grouped(choices, COPIES, analysis).values():
        cost = known.get(costs.key_of(members))
        lines = [staged_line(analysis, entry[id(c)], cost) for c in members]
        targets = [entry[id(c)].target for c in members]
        saved = sum(x.saved for x in lines)
        out.append(replace(lines[0], saved=saved, targets=targets))
    return out


@dataclass(frozen=True)
class LookLine:
    """What is looked at before and after: its title, and what was measured of it."""

    title: str
    cost: Cost | None
    trim: str
    target: str


def look_of(
    analysis: Analysis,
    asked: Asked,
    known: Mapping[str, Cost],
    every: Sequence[Proposals],
    entries: Sequence[TrimEntry],
) -> LookLine | None:
    """What the address asks to look at before and after."""
    if not asked.look:
        return None
    if asked.look == costs.TOGETHER:
        choices = [trims.choice_of(e) for e in entries]
        title = f"All {plural(len(choices), 'staged change')} together"
        return LookLine(title, known.get(costs.key_of(choices)) if choices else None, "", "")
    trim, _, target = asked.look.partition("/")
    staged = [trims.choice_of(e) for e in entries if e.trim == trim]
    offered = [p.choice for x in every if x.trim.name == trim for p in x.found if not p.left_alone]
    # What is one of several copies is looked at with all of them.
    sets = (s for of in (staged, offered) for s in grouped(of, COPIES, analysis).values())
    chosen = next((s for s in sets if any(c.target.key == target for c in s)), None)
    if chosen is None:
        return None
    name = next(c.target.name for c in chosen if c.target.key == target)
    many = f" and {len(chosen) - 1} more" if len(chosen) > 1 else ""
    title = f"{name}{many}: {TRIMS[trim].title.lower()}"
    return LookLine(title, known.get(costs.key_of(chosen)), trim, target)


def staged_line(analysis: Any, entry: TrimEntry, cost: Cost | None = None) -> StagedLine:
    """What an entry of the trim list saves by itself."""
    title = TRIMS[entry.trim].title if entry.trim in TRIMS else entry.trim
    proposed = entry.proposal or {}
    same = proposed.get("parameters") == entry.parameters
    saved = int(proposed.get("memory_saved_bytes", 0))
    if not same:
        saved = trims.saved_by(analysis, entry)
    return StagedLine(entry, title, saved, cost, [entry.target])


def unfinished(task: Task | None) -> Task | None:
    """A trim that is not done; what went wrong is told until the next try."""
    return task if task is not None and task.state != "done" else None


@dataclass(frozen=True)
class VersionLine:
    """A scene version as a row."""

    row: SceneVersion
    made_by: str


def version_lines(rows: Sequence[SceneVersion]) -> list[VersionLine]:
    """All versions, the newest first."""
    return [VersionLine(v, made_by(v)) for v in reversed(rows)]


def made_by(version: SceneVersion) -> str:
    """What a version was made by, in words."""
    changes = [Change.model_validate(c) for c in version.changes]
    if not changes:
        return "as it was opened"
    kind = changes[0].kind
    if kind in TRIMS:
        kinds = list(dict.fromkeys(c.kind for c in changes if c.kind in TRIMS))
        return ", ".join(TRIMS[k].summarise([c for c in changes if c.kind == k]) for k in kinds)
    if kind == "camera":
        return f"camera “{changes[0].target}” put up"
    if kind == "variant":
        return f"variant {changes[0].to}"
    return READ_AS.format(*_read_as(changes[0].to)) if kind == "reading" else kind


def _read_as(to: Any) -> tuple[str, str]:
    unit, up = to if isinstance(to, list | tuple) and len(to) == 2 else ("m", "y")
    return NAMES.get(unit, unit), str(up).upper()
