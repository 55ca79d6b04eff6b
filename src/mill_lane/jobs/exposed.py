"""A trial's picture at another exposure, from what its file has, and how bright two trials are."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from mill_lane.core.errors import NotFoundError
from mill_lane.core.formats.exr_rows import ExrRows
from mill_lane.core.formats.pictures import quick_png
from mill_lane.core.image.maps import layer_picture
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.core.render.display import F32, displays
from mill_lane.core.render.layers import exr_names
from mill_lane.store.home import Home
from mill_lane.store.models import Render

MOST = 10.0  # stops, either way
ROWS = 64  # of the file at a time
SAME = 0.01  # of the light: less apart nobody sees


def exposed(home: Home, trial: Render, stops: float, layer: str = "beauty") -> bytes:
    """What a trial's file has as PNG, so many stops brighter than the trial shows it.

    What was clipped in the trial's own picture comes back: the file has linear light.

    Parameters
    ----------
    home : Home
    trial : Render
    stops : float
    layer : str
        Of `core.render.display.displays`, one that can be shown brighter.

    Raises
    ------
    NotFoundError
        Where there is no file, or it lacks what the layer is made of.
    MillError
        Where the file is damaged.
    """
    if not trial.exr:
        raise NotFoundError("file of that trial")
    display, channels = displays().get(layer), exr_names()
    rows = ExrRows(home.files.path(trial.exr))
    if display is None or not display.show.takes_gain:
        raise NotFoundError("such layer of that trial")
    if not {c for name in display.pictures for c in channels[name]} <= set(rows.names):
        raise NotFoundError("such layer of that trial")
    exposure, gain = read_recipe(trial.recipe).exposure, within(stops)
    bands = []
    for y in range(0, rows.height, ROWS):
        planes = rows.planes(y, min(y + ROWS, rows.height))
        of = {name: _picture(planes, channels[name]) for name in display.pictures}
        bands.append(layer_picture(display.make(of), display.show, exposure, gain=gain)[0])
    return quick_png(np.concatenate(bands))


def _picture(planes: Mapping[str, F32], channels: Sequence[str]) -> F32:
    """A picture of its channels: (H, W) of one, or else (H, W, C)."""
    of = [planes[name] for name in channels]
    return of[0] if len(of) == 1 else np.stack(of, -1)


def within(stops: float) -> float:
    """The same, as far as it makes sense; 0 for what is no number."""
    return min(max(stops, -MOST), MOST) if math.isfinite(stops) else 0.0


def stops_apart(first: Render | None, second: Render | None) -> float | None:
    """By how many stops the second is brighter: of the mean light of the same part of the frame.

    None where they show different parts, where one has not ended or is black, and where nobody
    would see it.
    """
    if first is None or second is None or not _same_part(first, second):
        return None
    light = [float((t.measured or {}).get("mean_luminance") or 0.0) for t in (first, second)]
    if min(light) <= 0.0 or not math.isfinite(max(light)):
        return None
    ratio = light[1] / light[0]
    return math.log2(ratio) if abs(ratio - 1.0) > SAME else None


def _same_part(first: Render, second: Render) -> bool:
    """Whether they show the same of the frame, to a pixel of the smaller one."""
    for i, (mine, theirs) in enumerate(zip(first.region, second.region, strict=True)):
        sides = [t.recipe["height" if i % 2 else "width"] for t in (first, second)]
        if abs(mine / sides[0] - theirs / sides[1]) > 1.0 / min(sides):
            return False
    return True
