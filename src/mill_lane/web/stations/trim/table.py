"""The table of proposals: rows in words, sorted and filtered."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from mill_lane.core.trim import TRIMS
from mill_lane.core.trim.model import Change, Proposal, Trim
from mill_lane.jobs.proposals import Proposals
from mill_lane.store.models import TrimEntry

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


def _said(r: Row) -> str:
    return f"{r.proposal.target.name} {r.trim.title} {r.text} {r.reason} {r.kind}".lower()


def _row(trim: Trim, p: Proposal, entry: TrimEntry | None, most: int) -> Row:
    change = Change(kind=p.trim, target=p.target.name, from_=p.before, to=p.after, facts=p.facts)
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
