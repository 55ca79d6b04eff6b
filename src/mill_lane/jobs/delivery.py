"""How large the pictures of a job are when they are delivered."""

from __future__ import annotations

from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.core.recipe import LARGEST
from mill_lane.jobs import weighing
from mill_lane.store.models import Job
from mill_lane.work.kinds.final import largest_picture


def deliver(db: Session, job: Job, height: int) -> int:
    """Say how high, in pixels, the largest picture is that the job will be delivered at.

    Textures and shapes are trimmed for it, or for the final set where that is larger: a test that
    is rendered small never makes them smaller.

    Returns
    -------
    int
        The height that they are trimmed for.

    Raises
    ------
    MillError
        Where no picture is that high.
    """
    if not 1 <= height <= LARGEST:
        raise MillError(
            f"No picture is {height} px high.", f"Give a height from 1 to {LARGEST} pixels."
        )
    job.delivered_height = height
    weighing.keep_up(db, job)
    return largest_picture(db, job.id)
