"""What to look at before a job's final frames are rendered."""

from __future__ import annotations

from mill_lane.core.plan.preflight import Result, Shot, preflight
from mill_lane.jobs.summary import Summary


def check(summary: Summary) -> list[Result]:
    """Make every check for the final recipe on the job's device."""
    return preflight(Shot(summary.analysis, summary.final, summary.device))
