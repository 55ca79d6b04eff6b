"""Stored recipes of every schema version, upgraded when they are read.

A recipe is stored as JSON with its `schema_version`.  A renamed or changed field is one more step
here; what was stored before stays as it is and is upgraded each time it is read.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from mill_lane.core.recipe import SCHEMA, Recipe

Values = dict[str, Any]

# Version 2 calls the fields by the names of the trade.
RENAMED_IN_2 = {
    "early_end": "russian_roulette_threshold",
    "direct_clamp": "radiance_limit_direct",
    "clamp_bounced": "radiance_limit_indirect",
    "clean": "converged_fraction",
    "light_choice": "light_sampling",
    "lamp_scales": "light_scales",
    "sky_visible": "environment_visible",
    "sky_picture": "environment_picture",
    "sky_turn": "environment_rotation",
    "sky_gain": "environment_intensity",
}


def _from_1(values: Values) -> Values:
    out = {RENAMED_IN_2.get(name, name): value for name, value in values.items()}
    if "layers" in out:
        out["layers"] = ["half_buffers" if x == "halves" else x for x in out["layers"]]
    return out


STEPS: dict[int, Callable[[Values], Values]] = {1: _from_1}


def upgraded(values: Mapping[str, Any]) -> Values:
    """Bring the fields of a stored recipe up to the present schema.

    Parameters
    ----------
    values : mapping
        A recipe as JSON, whole or in part; without a `schema_version` it is of the first.

    Raises
    ------
    ValueError
        For a version that is newer than this edition knows, or that is no number.
    """
    version = values.get("schema_version", 1)
    if not isinstance(version, int) or isinstance(version, bool) or not 1 <= version <= SCHEMA:
        raise ValueError(
            f"the recipe has schema version {version}; this edition reads up to {SCHEMA}"
        )
    out = dict(values)
    for step in range(version, SCHEMA):
        out = STEPS[step](out)
    return out | {"schema_version": SCHEMA}


def read_recipe(values: Mapping[str, Any]) -> Recipe:
    """Read a stored recipe of any version.

    Raises
    ------
    ValueError
        Where a field is missing its limits, is not known, or the version is too new.
    """
    return Recipe.model_validate(upgraded(values))


def stored(recipe: Recipe) -> Values:
    """The recipe as JSON, as it is kept."""
    return recipe.model_dump(mode="json")
