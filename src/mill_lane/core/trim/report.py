"""The trim list as a table for other programs: object, what, from, to, why."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from typing import Any

from mill_lane.core.trim import TRIMS
from mill_lane.core.trim.model import Change

COLUMNS = ("trim", "object", "what", "from", "to", "why", "memory_saved_bytes", "file_saved_bytes")


def report_rows(changes: Sequence[Change]) -> list[dict[str, Any]]:
    """The changes of trims, a row each, by `COLUMNS`; other changes are left out."""
    return [
        {
            "trim": c.kind,
            "object": c.target,
            "what": TRIMS[c.kind].describe(c),
            "from": c.from_,
            "to": c.to,
            "why": c.why,
            "memory_saved_bytes": c.memory_saved_bytes,
            "file_saved_bytes": c.file_saved_bytes,
        }
        for c in changes
        if c.kind in TRIMS
    ]


def as_csv(rows: Sequence[dict[str, Any]]) -> str:
    """Rows of `report_rows` as CSV (RFC 4180); what could be taken for a formula is quoted."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(COLUMNS)
    for row in rows:
        writer.writerow([_cell(row[name]) for name in COLUMNS])
    return out.getvalue()


def _cell(value: Any) -> Any:
    if isinstance(value, list | tuple):
        return " x ".join(str(x) for x in value)
    if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t"):
        return f"'{value}"
    return "" if value is None else value
