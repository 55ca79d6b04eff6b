"""Components of the light cleaned one by one and put together; what is left out stays raw."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise.notes import Notes
from mill_lane.core.denoise.strips import KEPT, Layers, Settings, Source, Strip, strips_of
from mill_lane.core.errors import MillError

F32 = NDArray[np.float32]
# What has to do with the whole light alone, and tells nothing of a part of it.
OF_ALL = ("half_a", "half_b", "variance")


def component_strips(
    source: Source,
    names: Sequence[str],
    settings: Settings,
    notes: Notes,
    rows: int = 0,
    progress: Callable[[float], None] | None = None,
) -> Iterator[Strip]:
    """Clean components by themselves.

    Parameters
    ----------
    source : Source
        Whose layers hold the components by name, (H, W, 3).
    names : sequence of str
        The ones that are cleaned.
    settings, notes, rows, progress
        As of `strips_of`.

    Raises
    ------
    MillError
        Where the picture has no such layer.
    """
    there = source.rows(0, 1)
    for name in names:
        if name not in there:
            raise MillError(
                f"The picture has no layer “{name}”.",
                "Render it with its components as layers.",
            )

    def one(name: str) -> Source:
        def layers(y0: int, y1: int) -> Layers:
            found = source.rows(y0, y1)
            # Only what is scattered all round is a multiple of the colour of a surface.
            drop = OF_ALL if "diffuse" in name else (*OF_ALL, "albedo")
            return {k: v for k, v in found.items() if k not in drop} | {"beauty": found[name]}

        return replace(source, rows=layers)

    told = Notes()
    parts = []
    for k, name in enumerate(names):

        def share(done: float, k: int = k) -> None:
            if progress is not None and k == len(names) - 1:
                progress(done)

        parts.append(strips_of(one(name), settings, told, (), rows, share))
    for strips in zip(*parts, strict=True):
        first = strips[0]
        layers = {k: v for k, v in source.rows(first.y0, first.y1).items() if k in KEPT}
        cleaned = [s.picture - _known(s.layers["beauty"]) for s in strips]
        yield Strip(
            first.y0,
            first.y1,
            layers,
            np.maximum(_known(layers["beauty"]) + sum(cleaned), 0).astype(np.float32),
            None,
            sum(s.fireflies for s in strips),
            sum(s.moved for s in strips),
        )
    notes.take_mended(told)
    notes.say("components have no halves: their noise is guessed from the neighbours")


def _known(light: F32) -> F32:
    """Light with nothing where it is no number."""
    return np.nan_to_num(light, posinf=0.0, neginf=0.0)
