"""Two scene versions compared: figures, what was changed between them, their pictures."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.core.trim.model import Change
from mill_lane.core.trim.report import report_rows
from mill_lane.core.weigh.ledger import draw_up
from mill_lane.jobs import versions
from mill_lane.jobs.looks import newest_looks
from mill_lane.jobs.lookup import analysis_of
from mill_lane.jobs.summary import Summary
from mill_lane.store.models import SceneVersion

MOST_CHANGES = 40  # of two versions that are listed


@dataclass(frozen=True)
class Figures:
    """What two versions are compared by: a title, the figure in either, and how it is shown."""

    title: str
    other: float
    own: float
    unit: str  # bytes or count

    @property
    def ratio(self) -> float | None:
        """The own figure over the other's."""
        return self.own / self.other if self.other else None


@dataclass(frozen=True)
class Compared:
    """The version in use against another: figures, what was changed between, the first looks."""

    other: SceneVersion
    figures: list[Figures]
    changes: list[tuple[str, str]]
    more: int
    looks: tuple[Any, Any]


def compared(db: Session, summary: Summary, number: str) -> Compared | None:
    """Compare the version in use with the one of a number; None where none is named."""
    if not (number.isdecimal() and number.isascii() and len(number) < 10):
        return None
    other = versions.numbered(db, summary.job, int(number))
    if other.id == summary.version.id:
        return None
    a, b = analysis_of(db, other), summary.analysis
    needed = [draw_up(x, summary.final, summary.device).whole for x in (a, b)]
    held = [[sum(m.memory_bytes for m in x.meshes) for x in (a, b)]]
    held.append([sum(t.memory_bytes for t in x.textures) for x in (a, b)])
    figures = [
        Figures("needed while it renders, predicted", needed[0], needed[1], "bytes"),
        Figures("meshes, held", held[0][0], held[0][1], "bytes"),
        Figures("textures, held", held[1][0], held[1][1], "bytes"),
        Figures("scene file", other.file.size, summary.version.file.size, "bytes"),
        Figures("triangles drawn", a.triangles, b.triangles, "count"),
        Figures("triangles stored", a.unique_triangles, b.unique_triangles, "count"),
        Figures("placed objects", a.instances, b.instances, "count"),
        Figures("lights", len(a.lights), len(b.lights), "count"),
    ]
    later, earlier = sorted((other, summary.version), key=lambda v: -v.number)
    known = {v.id for v in versions.line_of(db, earlier)}
    between = [v for v in versions.line_of(db, later) if v.id not in known]
    changes = report_rows([Change.model_validate(c) for v in between for c in v.changes])
    looks = newest_looks(db, [other.id, summary.version.id], [summary.job.id])
    return Compared(
        other,
        figures,
        [(str(r["object"]), str(r["what"])) for r in changes[:MOST_CHANGES]],
        max(0, len(changes) - MOST_CHANGES),
        (looks.get(other.id), looks.get(summary.version.id)),
    )
