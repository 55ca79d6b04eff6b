"""What to look at before frames are rendered, and putting in order what that finds."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.plan.checks import CHECKS, Asked, Found, check_range
from mill_lane.core.plan.preflight import Result, Shot, preflight
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.jobs import nights, recipes, weighing
from mill_lane.jobs.lookup import find_version
from mill_lane.jobs.rehearsals import rehearsed
from mill_lane.jobs.summary import Summary
from mill_lane.jobs.versions import changes_since_opened
from mill_lane.store.models import Job


def check(summary: Summary) -> list[Result]:
    """Make every check for the final recipe on the job's device."""
    return preflight(_shot(summary))


def _shot(summary: Summary) -> Shot:
    return Shot(
        summary.analysis,
        summary.final,
        summary.device,
        summary.version.made_for,
        summary.job.delivered_height,
    )


def check_night(
    db: Session, summary: Summary, sheet: RunSheet, folder: Path, now: datetime | None = None
) -> list[Found]:
    """Make every check for a run sheet.

    Raises
    ------
    MillError
        Where the sheet itself is wrong.
    """
    job = summary.job
    known = summary.analysis
    (_, first), *others = sheet.by_camera(known.cameras, known.camera_for(summary.final.camera))
    return check_range(
        Asked(
            _shot(summary),
            first,
            folder,
            summary.estimate,
            rehearsed(db, job, sheet),
            nights.way_for(db, job, sheet, summary.final),
            hidden_objects(db, job),
            now or datetime.now(),
            tuple(other for _, other in others),
        )
    )


def hidden_objects(db: Session, job: Job) -> tuple[str, ...]:
    """Objects that the scene's trims keep from the camera, by name."""
    hidden: dict[str, None] = {}
    for change in changes_since_opened(db, find_version(db, job)):
        if change.kind == "ray_visibility":
            hidden.pop(change.target, None)
            if "camera" not in change.to:
                hidden[change.target] = None
    return tuple(hidden)


def mend(db: Session, summary: Summary, folder: Path, code: str) -> RunSheet:
    """Put in order what a check of the job's run sheet found.

    Raises
    ------
    MillError, NotFoundError
        Where nothing of that name is found any more, or it cannot be mended here.
    """
    sheet = nights.draft(db, summary.job)
    found = [f for f in check_night(db, summary, sheet, folder) if f.code == code]
    mends = [f.mend for f in found if f.mend is not None]
    if not mends:
        if code in {f.code for f in found} or code in CHECKS:
            raise MillError("There is nothing to mend.", "Look at the checks again.")
        raise NotFoundError("check of that name")
    if mends[0].recipe:
        recipes.edit(db, summary.job, "final", mends[0].recipe)
        weighing.keep_up(db, summary.job)
    if mends[0].sheet:
        sheet = RunSheet.model_validate(sheet.model_dump() | dict(mends[0].sheet))
        nights.keep_draft(db, summary.job, sheet)
    return sheet
