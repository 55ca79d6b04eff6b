"""Refusing what would not fit, before anything is started."""

from __future__ import annotations

from mill_lane.core.devices.model import Device
from mill_lane.core.errors import MillError
from mill_lane.core.recipe import Recipe
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.ledger import draw_up, judge


def check_fits(analysis: Analysis, recipe: Recipe, device: Device, size: tuple[int, int]) -> None:
    """Raises MillError, naming the step that would fail, when a picture of `size` does not fit the
    device.
    """
    verdict = judge(draw_up(analysis, recipe, device, size), device.free_bytes)
    if verdict.fits:
        return
    raise MillError(
        f"It does not fit {device.name}: it needs {verdict.needed / 1e9:.2f} GB and "
        f"{verdict.free / 1e9:.2f} GB are "
        f"free. {verdict.sentence()}",
        "Trim textures, make the picture smaller, or run this one on another device.",
        "Nothing was started.",
    )
