"""Recipes as pages send them, and the picture of the sky."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Annotated, Any, Literal
from urllib.parse import quote

from fastapi import APIRouter, Body, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response
from pydantic import BaseModel, Field
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.names import short_name
from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import stored
from mill_lane.jobs import recipes, shelf, weighing
from mill_lane.jobs.lookup import analysis_of, find_job, find_version, recipe_of
from mill_lane.store.transactions import write
from mill_lane.web.shared.context import Db, Done, file_stem, home_of
from mill_lane.web.shared.recipe_card import card
from mill_lane.web.shared.recipe_form import LIGHT, PERCENT
from mill_lane.web.shared.uploads import received

router = APIRouter()
SKY_LIMIT = 4 * 10**9
RECIPE_LIMIT = 10**6


def values_of(form: Mapping[str, Any], recipe: Recipe) -> dict[str, Any]:
    """The fields of a recipe that a form gives.

    Shares come in percent, the scale of each light in a field of its own, and an empty height of
    the sun means that there is none.

    Raises
    ------
    MillError
        Naming a field that is no number.
    """
    out = {k: v for k, v in form.items() if k in Recipe.model_fields}
    if isinstance(out.get("layers"), list):  # an empty one says that there may be none
        out["layers"] = [name for name in out["layers"] if name]
    if out.get("sun_elevation") == "":
        out["sun_elevation"] = None
    for name in PERCENT:
        given = form.get(f"{name}_percent")
        if given in (None, ""):
            continue
        title = Recipe.model_fields[name].title
        try:
            out[name] = float(given) / 100
        except (TypeError, ValueError) as e:
            raise MillError(
                f"{title}: not a number.", "Give it in percent, 100 for all of it."
            ) from e
    scales = {k.removeprefix(LIGHT): v for k, v in form.items() if k.startswith(LIGHT)}
    if scales:
        kept = {k: v for k, v in recipe.light_scales.items() if k not in scales}
        changed = {k: v for k, v in scales.items() if str(v) not in ("", "1", "1.0")}
        out["light_scales"] = kept | changed
    return out


@router.put("/api/jobs/{job}/recipes/{role}")
def edit_recipe(db: Db, job: int, role: str, values: Annotated[dict[str, Any], Body()]) -> Done:
    """Change some fields of the draft or final recipe."""
    row = find_job(db, job)
    if role not in recipes.ROLES:
        raise NotFoundError("recipe of that name")
    recipes.edit(db, row, role, values_of(values, recipe_of(db, row, role)))
    weighing.keep_up(db, row)
    return Done()


@router.post("/api/jobs/{job}/recipes/{role}/undo")
def undo(db: Db, job: int, role: str) -> Done:
    """Back to what a recipe was before a trial's settings were taken over."""
    row = find_job(db, job)
    if role not in recipes.ROLES:
        raise NotFoundError("recipe of that name")
    recipes.undo(db, row, role)
    weighing.keep_up(db, row)
    return Done()


@router.get("/jobs/{job}/recipes/{role}.json", include_in_schema=False)
def saved(db: Db, job: int, role: str) -> Response:
    """A recipe as a file."""
    row = find_job(db, job)
    if role not in recipes.ROLES:
        raise NotFoundError("recipe of that name")
    text = json.dumps(stored(recipe_of(db, row, role)), indent=1)
    name = quote(f"{file_stem(row.name)} {role}.recipe.json")
    named = f"attachment; filename*=UTF-8''{name}"
    return Response(text, media_type="application/json", headers={"Content-Disposition": named})


class TakenIn(Done):
    """What of a recipe was left out."""

    told: Annotated[list[str], Field(default_factory=list)]


@router.post("/api/jobs/{job}/recipes/{role}/file", max_body_size=RECIPE_LIMIT)
async def take_in(request: Request, job: int, role: str, name: str) -> TakenIn:
    """Take a recipe in from a file."""
    home = home_of(request)
    try:
        values = json.loads(await request.body())
    except (ValueError, RecursionError) as e:
        short = short_name(name, "recipe")
        hint = "Choose a file that was saved as one."
        raise MillError(f"“{short}” is no recipe.", hint) from e

    def inner(db: Session) -> list[str]:
        row = find_job(db, job)
        if role not in recipes.ROLES:
            raise NotFoundError("recipe of that name")
        told = recipes.take_in(db, row, role, values)[1]
        weighing.keep_up(db, row)
        return told

    return TakenIn(told=await run_in_threadpool(write, home.sessions, inner))


class Named(BaseModel):
    """A name for a recipe that is kept."""

    name: Annotated[str, Field(max_length=10_000)] = ""


class Into(BaseModel):
    """Which recipe a kept one becomes; of which only a field is taken over, where one is named."""

    role: Literal["draft", "final"] = "draft"
    part: Annotated[str, Field(max_length=80)] = ""


@router.post("/api/jobs/{job}/recipes/{role}/keep")
def keep(db: Db, job: int, role: str, named: Named) -> Done:
    """Keep a recipe as it is now under a name."""
    row = find_job(db, job)
    if role not in recipes.ROLES:
        raise NotFoundError("recipe of that name")
    shelf.keep(db, row, role, named.name)
    return Done()


@router.post("/api/jobs/{job}/kept/{number}/use")
def use(db: Db, job: int, number: int, into: Into) -> Done:
    """Take a kept recipe up; the one before can be gone back to."""
    row = find_job(db, job)
    shelf.use(db, row, number, into.role, into.part)
    weighing.keep_up(db, row)
    return Done()


@router.put("/api/jobs/{job}/kept/{number}/name")
def rename(db: Db, job: int, number: int, named: Named) -> Done:
    """Call a kept recipe otherwise."""
    shelf.rename(db, find_job(db, job), number, named.name)
    return Done()


@router.delete("/api/jobs/{job}/kept/{number}")
def remove(db: Db, job: int, number: int) -> Done:
    """Remove a kept recipe; it can be put back."""
    shelf.remove(db, find_job(db, job), number)
    return Done(go=f"?gone={number}")


@router.post("/api/jobs/{job}/kept/{number}/restore")
def restore(db: Db, job: int, number: int) -> Done:
    """Put a recipe back that was removed."""
    shelf.remove(db, find_job(db, job), number, gone=False)
    return Done()


class Said(BaseModel):
    """What the lines of a card say, by name."""

    said: dict[str, str]


@router.post("/api/jobs/{job}/recipes/{role}/words")
def words(db: Db, job: int, role: str, values: Annotated[dict[str, Any], Body()]) -> Said:
    """What the lines of a recipe say with some fields changed; nothing is kept."""
    row = find_job(db, job)
    if role not in recipes.ROLES:
        raise NotFoundError("recipe of that name")
    kept = recipe_of(db, row, role)
    recipe = recipes.merge(kept, values_of(values, kept))
    analysis = analysis_of(db, find_version(db, row))
    lines = card(recipe, analysis, recipe_of(db, row, "final"))
    return Said(said={line.name: line.text for line in lines})


@router.post("/api/jobs/{job}/sky", max_body_size=SKY_LIMIT)
async def set_sky(request: Request, job: int, name: str) -> Done:
    """Take an HDR or EXR picture as the sky of the job's recipes."""
    short, home = recipes.check_sky_name(name), home_of(request)
    await run_in_threadpool(write, home.sessions, lambda db: find_job(db, job).id)
    advice = "Save it smaller: 4096 pixels are enough for a sky."
    again = "Save it again."
    async with received(request, home.scratch, short, SKY_LIMIT, advice, again) as upload:

        def take() -> None:
            taken, picture = recipes.take_sky(home, upload.path, short)
            write(home.sessions, lambda db: recipes.use_sky(db, find_job(db, job), picture, taken))

        await run_in_threadpool(take)
    return Done()


@router.delete("/api/jobs/{job}/sky")
def no_sky(db: Db, job: int) -> Done:
    """Back to the sky of before; the picture stays in the store."""
    recipes.use_sky(db, find_job(db, job), "")
    return Done()
