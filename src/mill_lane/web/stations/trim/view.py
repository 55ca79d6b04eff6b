"""What the Trim station shows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.core.formats.units import NAMES
from mill_lane.core.trim import TRIMS
from mill_lane.core.trim.model import Change, Proposal
from mill_lane.core.weigh.ledger import draw_up, judge, texture_steps
from mill_lane.core.weigh.rules import usual_rule
from mill_lane.jobs import trims
from mill_lane.jobs.summary import Summary
from mill_lane.store.home import Home
from mill_lane.store.models import SceneVersion, Task, TrimEntry
from mill_lane.web.shared.format import plural
from mill_lane.web.shared.station import Figure, Mark

USUAL = "texture_size"
READ_AS = "read as {} with {} up"
HEADS = {
    "distance": (
        "%s larger than the distance rule asks",
        "Every texture is within the distance rule",
    ),
    "footprint": (
        "%s more texels than the shot can show",
        "No texture has more texels than the shot can show",
    ),
}


def figure(summary: Summary) -> Figure:
    """What is staged, or how much there is to look at."""
    mark: Mark = "look" if summary.proposals else "order"
    if summary.staged:
        return Figure(f"{summary.staged} staged", mark)
    return Figure(f"{summary.proposals} to look at" if summary.proposals else "in order", mark)


def parameters(trim: str, rule: str) -> dict[str, Any]:
    """The parameters of a trim that the page lets one choose."""
    return {"rule": rule} if takes_rule(trim) else {}


def takes_rule(trim: str) -> bool:
    """Whether a trim goes by a rule that one chooses."""
    return trim in TRIMS and "rule" in TRIMS[trim].parameters_type.model_fields


def proposed(db: Session, home: Home, summary: Summary, trim: str, rule: str) -> trims.Proposals:
    """What the chosen trim proposes; the rule that needs a look waits until there was one."""
    if not rule or (rule == "footprint" and summary.analysis.visibility is None):
        rule = usual_rule(summary.analysis)
    return trims.propose(db, home, summary.job, trim, parameters(trim, rule))


@dataclass(frozen=True)
class Line:
    """A proposal as a row.

    `staged` says whether its target is on the list, `exact` whether with these very parameters.
    """

    proposal: Proposal
    text: str
    reason: str
    staged: bool
    exact: bool
    staged_as: str
    bar: float  # 0 to 1, of the largest saving

    @property
    def key(self) -> str:
        """By which it is staged."""
        return self.proposal.target.key


def context(
    summary: Summary, found: trims.Proposals, entries: Sequence[TrimEntry], rule: str
) -> dict[str, Any]:
    """All that the page needs beside what every station has."""
    a, device = summary.analysis, summary.device
    listed = {(e.trim, e.target): e for e in entries}
    most = max((p.memory_saved_bytes for p in found.found), default=1) or 1
    lines = [_line(found, p, listed.get((p.trim, p.target.key)), most) for p in found.found]
    sizes = trims.image_bytes_after(a, entries)
    after = draw_up(a, summary.final, device, texture_sizes=sizes)
    rule = str(getattr(found.parameters, "rule", rule)) or usual_rule(a)
    return {
        "trim": found.trim,
        "trims": list(TRIMS),
        "takes_rule": takes_rule(found.trim.name),
        "rule": rule,
        "head": head_of(found, rule),
        "too_much": sum("too_little_for" in p.facts for p in found.found),
        "lines": lines,
        "staged": entries,
        "all_staged": bool(lines) and all(x.exact for x in lines),
        "after": judge(after, device.free_bytes),
        "saved": sum(t.memory_bytes - sizes[t.index] for t in a.textures if t.index in sizes),
        "held": sum(s.bytes for s in texture_steps(a)),
    }


def head_of(found: trims.Proposals, rule: str) -> str:
    """The page's heading: how much there is to trim."""
    if not takes_rule(found.trim.name):
        proposals = plural(len(found.found), "proposal")
        return f"{found.trim.title}: {proposals if found.found else 'nothing to propose'}"
    some, none = HEADS.get(rule, ("%s by the rule", "Nothing to propose"))
    one, many = ("texture has", "textures have") if rule == "footprint" else ("texture", "textures")
    return some % plural(len(found.found), one, many) if found.found else none


def _line(found: trims.Proposals, p: Proposal, entry: TrimEntry | None, most: int) -> Line:
    change = Change(kind=p.trim, target=p.target.name, from_=p.before, to=p.after)
    exact = entry is not None and entry.parameters == p.parameters
    other = ""
    if entry is not None and not exact:
        other = ", ".join(f"{k} {v}" for k, v in entry.parameters.items())
    return Line(
        proposal=p,
        text=found.trim.describe(change),
        reason=reason(p),
        staged=entry is not None,
        exact=exact,
        staged_as=other,
        bar=p.memory_saved_bytes / most,
    )


def reason(p: Proposal) -> str:
    """What a proposal rests on, in words."""
    limit = p.parameters.get("limit")
    if p.facts.get("shown"):
        across, down = p.facts["shown"]
        return f"the shot shows {across} x {down} of it"
    if p.facts.get("nearest_m") is not None:
        text = f"never nearer than {p.facts['nearest_m']:.1f} m: {limit} px"
        if p.facts.get("too_little_for"):
            text += f", too few: the shot shows {p.facts['too_little_for']}"
        return text
    return ""


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
        kinds = {c.kind for c in changes}
        parts = [
            TRIMS[k].summarise([c for c in changes if c.kind == k]) for k in kinds if k in TRIMS
        ]
        return ", ".join(sorted(parts))
    if kind == "camera":
        return f"camera “{changes[0].target}” put up"
    return READ_AS.format(*_read_as(changes[0].to)) if kind == "reading" else kind


def _read_as(to: Any) -> tuple[str, str]:
    unit, up = to if isinstance(to, list | tuple) and len(to) == 2 else ("m", "y")
    return NAMES.get(unit, unit), str(up).upper()
