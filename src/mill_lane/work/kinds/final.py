"""What kinds of task read of a job's final recipe."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.store.models import Job, RecipeRow


def final_recipe(db: Session, job: int) -> Recipe:
    """The recipe of a job's final frames."""
    chosen = select(RecipeRow).where(RecipeRow.job_id == job, RecipeRow.chosen == "final")
    return read_recipe(db.scalars(chosen).one().data)


def largest_picture(db: Session, job: int) -> int:
    """Pixels high of the largest picture that is made of a job: as it is delivered, or by its final
    set where that is larger.
    """
    return max(db.get_one(Job, job).delivered_height, final_recipe(db, job).height)
