"""Recipes of a job: changed field by field, and what they render with beside the scene."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, input_words
from mill_lane.core.formats.pictures import picture_name
from mill_lane.core.formats.sky_pictures import SKY_ENDINGS, sky_size
from mill_lane.core.recipe import DRAFT, FINAL, Recipe
from mill_lane.core.recipe_versions import read_recipe, stored, upgraded
from mill_lane.core.render.layers import check_layers
from mill_lane.jobs.lookup import chosen_recipe, is_elsewhere
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import Job, RecipeRow, Render, StoredFile
from mill_lane.work.limited import limited

ROLES = ("draft", "final")
KEPT_RECIPE = "The recipe stays as it is."


def add_recipes(db: Session, job: Job) -> None:
    """Give a new job its draft and its final recipe."""
    for role, recipe in (("draft", DRAFT), ("final", FINAL)):
        db.add(RecipeRow(job_id=job.id, name=role.capitalize(), chosen=role, data=stored(recipe)))
    db.flush()


def merge(recipe: Recipe, values: Mapping[str, Any]) -> Recipe:
    """A recipe with some fields replaced.

    Parameters
    ----------
    recipe : Recipe
    values : mapping
        By field; what is no field of a recipe is passed over.

    Raises
    ------
    MillError
        Naming the field that is wrong.
    """
    fields = Recipe.model_fields
    known = {k: v for k, v in values.items() if k in fields and k != "schema_version"}
    try:
        merged = Recipe.model_validate({**recipe.model_dump(), **known})
    except ValueError as e:
        errors = getattr(e, "errors", None)
        first = errors()[0] if errors else {"msg": str(e), "loc": ()}
        field = fields.get(str(first["loc"][0])) if first["loc"] else None
        text = input_words(first)
        said = f"{field.title}: {text}." if field is not None and field.title else f"{text}."
        raise MillError(said, "Correct it and send it again.") from e
    check_layers(merged.layers)
    return merged


def edit(db: Session, job: Job, role: str, values: Mapping[str, Any]) -> Recipe:
    """Change some fields of a job's draft or final recipe; see `merge`."""
    row = chosen_recipe(db, job, role)
    new = merge(read_recipe(row.data), values)
    row.data = stored(new)
    return new


def put_back(db: Session, job: Job, role: str, trial: Render) -> Recipe:
    """Take a trial's settings over into a recipe, which remembers what it was.

    What a trial keeps beside its picture, and that it had no end, are no settings of it.

    Raises
    ------
    MillError
        For a picture made elsewhere.
    """
    if is_elsewhere(trial):
        raise MillError(
            f"Trial {trial.number} was made elsewhere: nobody knows its settings here.",
            "Put back those of a trial that was rendered here.",
            "The recipe stays as it was.",
        )
    row = chosen_recipe(db, job, role)
    kept, found = read_recipe(row.data), read_recipe(trial.recipe)
    same: dict[str, Any] = {"layers": kept.layers}
    if found.endless:
        same |= {"samples": max(kept.samples, found.min_samples)}
    new = found.model_copy(update=same)
    if new != kept:
        row.before, row.data = row.data, stored(new)
    return new


def take_in(db: Session, job: Job, role: str, values: Any) -> tuple[Recipe, list[str]]:
    """Take a recipe in from a file; the one before can be gone back to.

    Parameters
    ----------
    db : Session
    job : Job
    role : str
    values : object
        What the file holds as JSON, of any edition that is known.

    Returns
    -------
    recipe : Recipe
    told : list of str
        What of it was left out, and why.

    Raises
    ------
    MillError
        For what is no recipe, one of a newer edition, and values out of range, with their names.
    """
    if not isinstance(values, dict):
        raise MillError(
            "This is no recipe.", "Choose a file that was saved as a recipe.", KEPT_RECIPE
        )
    row = chosen_recipe(db, job, role)
    kept = read_recipe(row.data)
    try:
        found = upgraded(values)
    except ValueError as e:
        raise MillError(f"It cannot be read: {e}.", "Update Mill Lane.", KEPT_RECIPE) from e
    told = [f"“{name}” is no setting here" for name in found if name not in Recipe.model_fields]
    picture = str(found.get("environment_picture") or "")
    if picture and db.get(StoredFile, picture.split("/", maxsplit=1)[0]) is None:
        told.append("the sky picture is not on this computer")
        found["environment_picture"] = kept.environment_picture
    new = merge(kept, found)
    if new != kept:
        row.before, row.data = row.data, stored(new)
    return new, told


def undo(db: Session, job: Job, role: str) -> Recipe:
    """Go back to what a recipe was before a trial's was taken over; once more: forth again.

    Raises
    ------
    MillError
        Where there is nothing to go back to.
    """
    row = chosen_recipe(db, job, role)
    if not row.before:
        raise MillError("There is nothing to go back to.", "The recipe stays as it is.")
    row.before, row.data = row.data, row.before
    return read_recipe(row.data)


def check_sky_name(name: str) -> str:
    """The name of a file fit to be shown, if its ending is one of a sky picture's."""
    wanted = "Save the picture as .hdr or .exr."
    return picture_name(name, SKY_ENDINGS, wanted, "The sky stays as it was.")


def take_sky(home: Home, path: Path, name: str) -> tuple[Taken, str]:
    """Look a picture of the sky over, in a process of its own, and get it ready to be kept.

    Returns
    -------
    taken : Taken
        To be listed.
    picture : str
        As recipes name it: hash, size and name.
    """
    width, height = limited(sky_size, path, name)
    taken = home.files.put(path, name)
    return taken, f"{taken.hash}/{width}x{height}/{name}"


def use_sky(db: Session, job: Job, picture: str, taken: Taken | None = None) -> None:
    """Use a picture as the sky of both recipes; an empty name goes back to none."""
    if taken is not None:
        list_file(db, taken)
    for role in ROLES:
        edit(db, job, role, {"environment_picture": picture})
