"""What would bring a scene under what its device has: one ladder, for every page that asks."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.trim.ladder import Ladder, ladder
from mill_lane.core.weigh.ledger import Ledger
from mill_lane.jobs.costs import Cost, costs_of
from mill_lane.jobs.summary import Summary
from mill_lane.store.models import Render


def ladder_for(
    db: Session, summary: Summary, needed: int | None = None, capacity: int | None = None
) -> Ladder:
    """The ladder of savings of the version in use.

    Parameters
    ----------
    db : Session
    summary : Summary
    needed, capacity : int, optional
        Bytes; those of the final recipe on the job's device where they are not given.
    """
    can = [p for x in summary.proposed for p in x.found if not p.left_alone]
    return ladder(
        summary.analysis,
        can,
        summary.ledger.whole if needed is None else needed,
        summary.device.free_bytes if capacity is None else capacity,
        changes_of(costs_of(db, summary.version)),
    )


def changes_of(known: Mapping[str, Cost]) -> dict[str, float]:
    """What was measured of single choices: RMS by "TRIM/TARGET"."""
    return {
        f"{c.choices[0].trim}/{c.choices[0].target.key}": c.rms
        for c in known.values()
        if c.known and len(c.choices) == 1
    }


def seconds_of(known: Mapping[str, Cost]) -> dict[str, tuple[float, float]]:
    """What crops of single choices took before and after: seconds by "TRIM/TARGET"."""
    return {
        f"{c.choices[0].trim}/{c.choices[0].target.key}": c.seconds
        for c in known.values()
        if c.known and len(c.choices) == 1
    }


def usual_bytes(db: Session, summary: Summary, ledger: Ledger) -> int:
    """What a render is likely to hold: of what is mapped from files as much as the newest trial of
    the version read; 0 where none tells.
    """
    query = (
        select(Render.measured, Render.predicted)
        .where(Render.version_id == summary.version.id, Render.picture.is_not(None))
        .order_by(Render.id.desc())
        .limit(1)
    )
    found = db.execute(query).first()
    if found is None or not ledger.mapped:
        return 0
    measured, predicted = found
    mapped = int(predicted.get("mapped_bytes", 0))
    if not mapped or "peak_memory_bytes" not in measured:
        return 0
    others = int(predicted["memory_bytes"]) - mapped
    share = min(max((int(measured["peak_memory_bytes"]) - others) / mapped, 0.0), 1.0)
    return ledger.least + round(share * ledger.mapped)
