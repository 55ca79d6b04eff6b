"""What kinds of task read of a job's final recipe."""

from __future__ import annotations

import math

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.store.models import Job, RecipeRow

SAME_SHAPE = 1e-3  # relative: what rounding to whole pixels makes of an aspect


def same_shape(one: float, other: float) -> bool:
    """Whether two aspects, width over height, are alike; 0 is any."""
    return not one or not other or math.isclose(one, other, rel_tol=SAME_SHAPE)


def final_recipe(db: Session, job: int) -> Recipe:
    """The recipe of a job's final frames."""
    chosen = select(RecipeRow).where(RecipeRow.job_id == job, RecipeRow.chosen == "final")
    return read_recipe(db.scalars(chosen).one().data)


def largest_picture(db: Session, job: int) -> int:
    """Pixels high of the largest picture that is made of a job: as it is delivered, or by its final
    set where that is larger.
    """
    return max(db.get_one(Job, job).delivered_height, final_recipe(db, job).height)
