"""The recipes that are kept beside the one at hand, and what each does otherwise."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import stored, upgraded
from mill_lane.store.models import RecipeRow
from mill_lane.web.shared.recipe_words import differences


@dataclass(frozen=True)
class Kept:
    """A kept recipe: its number, its name, and what it does otherwise than the one at hand, each
    with the field that would be taken over.
    """

    id: int
    name: str
    otherwise: list[tuple[str, str]]


def shelf_of(rows: Sequence[RecipeRow], recipe: Recipe) -> list[Kept]:
    """The rows of the shelf beside a recipe."""
    now = stored(recipe)
    return [Kept(r.id, r.name, differences(now, upgraded(r.data))) for r in rows]
