"""The scene kept warm for looking at what trims change, in the child: see `trim.visible`."""

from __future__ import annotations

from pathlib import Path

from mill_lane.core.formats.opening import open_scene
from mill_lane.core.recipe import Recipe
from mill_lane.core.trim.visible import Looker
from mill_lane.core.weigh.analysis import Analysis

_warm: dict[tuple[Path, str], Looker] = {}


def forget_looker() -> None:
    """Let go of the scene that was looked at last."""
    _warm.clear()


def looker_of(path: Path, analysis: Analysis, recipe: Recipe, threads: int) -> Looker:
    """A looker at a scene for a picture; the last one is kept for the next look."""
    key = (path, recipe.model_dump_json())
    if key not in _warm:
        _warm.clear()
        _warm[key] = Looker(open_scene(path, own=True), analysis, recipe, threads)
    return _warm[key]
