"""Rungs: what a run goes on with when memory fails, none of which changes the picture itself."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

from mill_lane.core.recipe import Recipe
from mill_lane.core.registry import Registry


@dataclass(frozen=True)
class Rung:
    """A way to take less memory.

    Attributes
    ----------
    name : str
    title : str
        What it does and what it costs, for people.
    step : callable
        The recipe with less; the same one where it has nothing to give.
    """

    name: str
    title: str
    step: Callable[[Recipe], Recipe]


def _later(recipe: Recipe) -> Recipe:
    return recipe.model_copy(update={"denoise": "later"}) if recipe.denoise == "with" else recipe


def _fewer(recipe: Recipe) -> Recipe:
    return recipe.model_copy(update={"layers": ()})


RUNGS = Registry(
    "rung",
    Rung("denoise_later", "denoise once all is rendered, not with each frame", _later),
    Rung("fewer_layers", "write the picture and what denoising needs, no other layers", _fewer),
)


def with_less(recipe: Recipe, allowed: Collection[str]) -> tuple[Recipe, Rung] | None:
    """Take the next rung that gives something; None where there is none.

    Parameters
    ----------
    recipe : Recipe
    allowed : collection of str
        Names of rungs that may be taken.
    """
    for rung in RUNGS:
        if rung.name not in allowed:
            continue
        changed = rung.step(recipe)
        changed = changed.model_copy(update={"layers": changed.kept_layers})
        same = set(changed.kept_layers) == set(recipe.kept_layers)
        if changed.denoise != recipe.denoise or not same:
            return changed, rung
    return None
