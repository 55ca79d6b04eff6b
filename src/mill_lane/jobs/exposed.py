"""A trial's picture at another exposure, from what its file has, and how bright two trials are."""

from __future__ import annotations

import math

import numpy as np

from mill_lane.core.errors import NotFoundError
from mill_lane.core.formats.exr_rows import ExrRows
from mill_lane.core.formats.pictures import quick_png
from mill_lane.core.image.maps import in_stops, layer_picture
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.core.render.layers import exr_names, show_of
from mill_lane.store.home import Home
from mill_lane.store.models import Render

MOST = 10.0  # stops, either way
ROWS = 64  # of the file at a time
SAME = 0.01  # of the light: less apart nobody sees


def exposed(
    home: Home, trial: Render, stops: float, false_colour: bool = False, layer: str = "beauty"
) -> bytes:
    """A picture of the trial as PNG, so many stops brighter than the trial shows it.

    What was clipped in the trial's own picture comes back: the file has linear light.

    Parameters
    ----------
    home : Home
    trial : Render
    stops : float
    false_colour : bool
        How bright it is, instead of the picture; see `core.image.maps.in_stops`.
    layer : str
        One that can be shown brighter (`gains`).

    Raises
    ------
    NotFoundError
        Where there is no file, or no such layer in it.
    MillError
        Where the file is damaged.
    """
    if not trial.exr:
        raise NotFoundError("file of that trial")
    rows, names, show = ExrRows(home.files.path(trial.exr)), exr_names().get(layer), show_of(layer)
    if not names or show is None or not show.gains or not set(names) <= set(rows.names):
        raise NotFoundError("such layer of that trial")
    exposure, gain = read_recipe(trial.recipe).exposure, within(stops)
    bands = []
    for y in range(0, rows.height, ROWS):
        planes = rows.planes(y, min(y + ROWS, rows.height))
        plane = np.stack([planes[name] for name in names], -1)
        if false_colour:
            bands.append(in_stops(plane, exposure + gain))
        else:
            plane = plane if len(names) > 1 else plane[..., 0]
            bands.append(layer_picture(plane, show, exposure, gain=gain)[0])
    return quick_png(np.concatenate(bands))


def gains(layer: str) -> bool:
    """Whether a layer of a trial's file can be shown brighter."""
    show = show_of(layer)
    return layer in exr_names() and show is not None and show.gains


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
