"""Recipes that are kept under a name: put aside, taken up again, called otherwise, removed."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import read_recipe, stored
from mill_lane.jobs.lookup import chosen_recipe
from mill_lane.jobs.recipes import merge
from mill_lane.store.models import Job, RecipeRow

MOST = 200  # recipes of a job
LONGEST = 80  # letters of a name


def kept(db: Session, job: Job) -> Sequence[RecipeRow]:
    """The recipes of a job that are kept beside its draft and its final one, by name."""
    query = select(RecipeRow).where(
        RecipeRow.job_id == job.id, RecipeRow.chosen.is_(None), ~RecipeRow.removed
    )
    return db.scalars(query.order_by(RecipeRow.name, RecipeRow.id)).all()


def keep(db: Session, job: Job, role: str, name: str) -> RecipeRow:
    """Keep a recipe as it is now under a name.

    Raises
    ------
    MillError
        For a name that is none, and where there are too many.
    """
    if len(kept(db, job)) >= MOST:
        raise MillError(f"There are {MOST} recipes kept.", "Remove one that is not needed.")
    row = RecipeRow(
        job_id=job.id, name=_name(name), chosen=None, data=chosen_recipe(db, job, role).data
    )
    db.add(row)
    db.flush()
    return row


def find(db: Session, job: Job, number: int) -> RecipeRow:
    """A kept recipe, also one that was removed."""
    row = db.get(RecipeRow, number)
    if row is None or row.job_id != job.id or row.chosen is not None:
        raise NotFoundError("recipe of that number")
    return row


def gone_from(db: Session, job: Job, number: int | None) -> RecipeRow | None:
    """A recipe that was removed just now, and can be put back; None where there is none."""
    row = db.get(RecipeRow, number) if number is not None else None
    return row if row is not None and row.job_id == job.id and row.removed else None


def use(db: Session, job: Job, number: int, role: str, part: str = "") -> None:
    """Take a kept recipe up as the draft or the final one, which remembers what it was.

    Parameters
    ----------
    db : Session
    job : Job
    number : int
        Of the kept recipe.
    role : str
        "draft" or "final".
    part : str
        A field that alone is taken over; empty: all of it.

    Raises
    ------
    NotFoundError
        Where there is no such recipe, or no such field.
    MillError
        Where the field does not go with the others.
    """
    row, chosen = find(db, job, number), chosen_recipe(db, job, role)
    data = row.data
    if part:
        if part not in Recipe.model_fields or part == "schema_version":
            raise NotFoundError("setting of that name")
        theirs = getattr(read_recipe(row.data), part)
        data = stored(merge(read_recipe(chosen.data), {part: theirs}))
    if chosen.data != data:
        chosen.before, chosen.data = chosen.data, data


def rename(db: Session, job: Job, number: int, name: str) -> None:
    """Call a kept recipe otherwise.  Raises MillError for a name that is none."""
    find(db, job, number).name = _name(name)


def remove(db: Session, job: Job, number: int, gone: bool = True) -> None:
    """Remove a kept recipe, or put it back."""
    find(db, job, number).removed = gone


def _name(name: str) -> str:
    printed = "".join(ch if ch.isprintable() else " " for ch in name)
    found = " ".join(printed.split())[:LONGEST].strip()
    if not found:
        raise MillError("A recipe needs a name.", "Write one, then keep it again.")
    return found
