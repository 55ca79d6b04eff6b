"""The table of proposals: rows in words, sorted and filtered."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from mill_lane.core.trim import TRIMS
from mill_lane.core.trim.groups import grouped
from mill_lane.core.trim.model import Change, Proposal, Trim
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.words import plural
from mill_lane.jobs.proposals import Proposals
from mill_lane.store.models import TrimEntry

MANY = {"mesh": "meshes", "fog": "fogs"}  # of words that are no other with an s
MOST_ROWS = 300  # a page with more would be slow; the filter finds the others
KINDS = {
    "image": "texture",
    "mesh": "mesh",
    "object": "object",
    "material": "material",
    "light": "light",
    "medium": "fog",
    "scene": "scene",
}


@dataclass(frozen=True)
class Field:
    """Something of a trim's parameters, or of a choice, that can be set by hand."""

    name: str
    title: str
    kind: str  # number, flag, text
    value: Any


@dataclass(frozen=True)
class Row:
    """A proposal as a row.

    `staged` says whether its target is on the list, `exact` whether with these very parameters;
    `staged_as` tells other ones.
    """

    proposal: Proposal
    trim: Trim
    text: str
    reason: str
    staged: bool
    exact: bool
    staged_as: str
    bar: float  # 0 to 1, of the largest saving
    fields: list[Field]

    @property
    def key(self) -> str:
        """By which it is staged: its target."""
        return self.proposal.target.key

    @property
    def address(self) -> str:
        """By which it is found on the page."""
        return f"{self.proposal.trim}/{self.key}"

    @property
    def kind(self) -> str:
        """What it is about, in a word."""
        return KINDS[self.proposal.target.kind]


@dataclass(frozen=True)
class Line:
    """A line of the table: one proposal, or several that are staged as one."""

    key: str
    rows: list[Row]
    open: bool = False

    @property
    def first(self) -> Row:
        """The proposal that it is called by."""
        return self.rows[0]

    @property
    def single(self) -> bool:
        """Whether it is a proposal by itself."""
        return len(self.rows) == 1

    @property
    def free(self) -> list[Row]:
        """Those that can be staged."""
        return [r for r in self.rows if not r.proposal.left_alone]

    @property
    def staged(self) -> int:
        """How many of them are on the list."""
        return sum(r.staged for r in self.rows)

    @property
    def address(self) -> str:
        """By which it is looked at before and after."""
        return self.first.address

    @property
    def trims(self) -> str:
        """The titles of the trims that it is made of."""
        return ", ".join(dict.fromkeys(r.trim.title for r in self.rows))

    @property
    def text(self) -> str:
        """What becomes of all of them."""
        out = []
        for trim in dict.fromkeys(r.trim for r in self.free):
            changes = [_change_of(r.proposal) for r in self.free if r.trim is trim]
            out.append(trim.summarise(changes))
        return "; ".join(out)

    @property
    def kinds(self) -> str:
        """What they are, counted."""
        counts: dict[str, int] = {}
        for r in self.rows:
            counts[r.kind] = counts.get(r.kind, 0) + 1
        return ", ".join(plural(n, kind, MANY.get(kind, "")) for kind, n in counts.items())

    @property
    def memory(self) -> int:
        """Bytes that they save together."""
        return sum(r.proposal.memory_saved_bytes for r in self.free)

    @property
    def file(self) -> int:
        """Bytes of files."""
        return sum(r.proposal.file_saved_bytes for r in self.free)

    @property
    def triangles(self) -> int:
        """Triangles drawn."""
        return sum(r.proposal.triangles_saved for r in self.free)

    @property
    def bar(self) -> float:
        """Of the largest saving, at most all of it."""
        return min(1.0, sum(r.bar for r in self.free))


def lines_of(
    rows: Sequence[Row], by: str, analysis: Analysis, opened: str, sort: str
) -> list[Line]:
    """Rows put together by one of `core.trim.groups.GROUPINGS`, in the order that is asked for.

    `opened` is the key of the line whose single proposals are shown.
    """
    by_proposal = {id(r.proposal): r for r in rows}
    free = grouped([r.proposal for r in rows], by, analysis)
    lines = [
        Line(key, [by_proposal[id(p)] for p in members], key == opened)
        for key, members in free.items()
    ]
    if sort in ("memory", "file", "triangles"):
        lines.sort(key=lambda x: -getattr(x, sort))
        lines.sort(key=lambda x: not x.free)
    return lines


SORTS: dict[str, Callable[[Row], Any]] = {
    "memory": lambda r: -r.proposal.memory_saved_bytes,
    "file": lambda r: -r.proposal.file_saved_bytes,
    "triangles": lambda r: -r.proposal.triangles_saved,
    "name": lambda r: r.proposal.target.name.lower(),
    "trim": lambda r: TRIMS.names.index(r.trim.name) if r.trim.name in TRIMS.names else 0,
}


def rows_of(
    found: Sequence[Proposals], entries: Sequence[TrimEntry], sort: str, find: str
) -> list[Row]:
    """All proposals as rows; those that are left alone come last.

    Parameters
    ----------
    found : sequence of Proposals
    entries : sequence of TrimEntry
        What is staged.
    sort : str
        One of `SORTS`.
    find : str
        What the name, the trim or the reason has to hold.
    """
    listed = {(e.trim, e.target): e for e in entries}
    every = [(x.trim, p) for x in found for p in x.found]
    most = max(1, *(p.memory_saved_bytes for _, p in every)) if every else 1
    rows = [_row(trim, p, listed.get((p.trim, p.target.key)), most) for trim, p in every]
    words = find.lower().split()
    kept = [r for r in rows if all(w in _said(r) for w in words)]
    kept.sort(key=SORTS.get(sort, SORTS["memory"]))
    kept.sort(key=lambda r: bool(r.proposal.left_alone))
    return kept


def _change_of(p: Proposal) -> Change:
    return Change(kind=p.trim, target=p.target.name, from_=p.before, to=p.after, facts=p.facts)


def _said(r: Row) -> str:
    return f"{r.proposal.target.name} {r.trim.title} {r.text} {r.reason} {r.kind}".lower()


def _row(trim: Trim, p: Proposal, entry: TrimEntry | None, most: int) -> Row:
    change = _change_of(p)
    exact = entry is not None and entry.parameters == p.parameters
    other = ""
    parameters = entry.parameters if entry is not None else p.parameters
    if entry is not None and not exact:
        titles = {f.name: f.title for f in fields_of(trim.choice_type, entry.parameters)}
        other = ", ".join(f"{titles[k]} {v}" for k, v in entry.parameters.items() if k in titles)
    return Row(
        proposal=p,
        trim=trim,
        text="" if p.left_alone else trim.describe(change),
        reason=p.left_alone or trim.explain(p),
        staged=entry is not None,
        exact=exact,
        staged_as=other,
        bar=max(p.memory_saved_bytes, 0) / most,
        fields=[] if p.left_alone else fields_of(trim.choice_type, parameters),
    )


def fields_of(model: type[BaseModel], values: Mapping[str, Any]) -> list[Field]:
    """What of a model has a title, with its value now."""
    out = []
    for name, info in model.model_fields.items():
        if not info.title:
            continue
        value = values.get(name, info.default)
        kind = "number"
        if isinstance(info.default, bool):
            kind = "flag"
        elif isinstance(info.default, str):
            kind = "text"
        out.append(Field(name, info.title, kind, "" if value is None else value))
    return out


def values_of(model: type[BaseModel], sent: Mapping[str, Any]) -> dict[str, Any]:
    """What a form sent of a model's fields; an empty field is not set, an unset box is off."""
    out: dict[str, Any] = {}
    flags = {f.name for f in fields_of(model, {}) if f.kind == "flag"}
    for name in model.model_fields:
        if name in sent and sent[name] not in ("", None):
            out[name] = sent[name]
        elif name in flags:
            out[name] = False
    return out
