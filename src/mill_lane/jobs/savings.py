"""What would bring a scene under what its device has: one ladder, for every page that asks."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy.orm import Session

from mill_lane.core.trim.ladder import Ladder, ladder
from mill_lane.jobs.costs import Cost, costs_of
from mill_lane.jobs.summary import Summary


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
        summary.ledger.total if needed is None else needed,
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
