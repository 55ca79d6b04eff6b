"""Trims: from a scene to a lighter scene, with a report of what changed.

A trim is one module with a `Trim` and one line below.
"""

from __future__ import annotations

from collections.abc import Sequence

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.registry import Registry
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import Change, Choice, Trim
from mill_lane.core.trim.texture_size import TextureSize

TRIMS: Registry[Trim] = Registry("trim", TextureSize())


def apply_choices(
    scene: Scene, choices: Sequence[Choice], progress: Progress = silent
) -> tuple[Scene, list[Change]]:
    """Apply everything on a trim list, trim by trim, in the order of the registry.

    Parameters
    ----------
    scene : Scene
        Left as it is.
    choices : sequence of Choice
    progress : callable

    Raises
    ------
    MillError
        For a trim that this edition has not, or a choice that does not fit the scene.
    """
    for choice in choices:
        if choice.trim not in TRIMS:
            raise MillError(
                f"There is no trim “{choice.trim}” in this edition.", "Take it off the list."
            )
    changes: list[Change] = []
    wanted = [t for t in TRIMS if any(c.trim == t.name for c in choices)]
    for i, trim in enumerate(wanted):
        own = [c for c in choices if c.trim == trim.name]
        tell = part(progress, i / len(wanted), (i + 1) / len(wanted))
        scene, more = trim.apply(scene, own, tell)
        changes += more
    return scene, changes
