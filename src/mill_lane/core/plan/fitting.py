"""Refusing what would not fit, before anything is started."""

from __future__ import annotations

from mill_lane.core.devices.model import Device
from mill_lane.core.errors import MillError
from mill_lane.core.plan.way import Way
from mill_lane.core.recipe import Recipe
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.ledger import Verdict, draw_up, judge


def check_fits(analysis: Analysis, recipe: Recipe, device: Device, size: tuple[int, int]) -> None:
    """Refuse a render that does not fit.

    Parameters
    ----------
    analysis : Analysis
    recipe : Recipe
    device : Device
    size : tuple of int
        Width and height of what is rendered, pixels.

    Raises
    ------
    MillError
        Naming the step that would fail, and what is missing.
    """
    _check(judge(draw_up(analysis, recipe, device, size), device.free_bytes), device)


def check_way(way: Way) -> None:
    """Refuse a way to render that does not fit its device; see `check_fits`."""
    _check(judge(way.ledger, way.device.free_bytes), way.device)


def _check(verdict: Verdict, device: Device) -> None:
    if verdict.fits:
        return
    raise MillError(
        f"It does not fit {device.name}: it needs {verdict.needed / 1e9:.2f} GB and "
        f"{verdict.free / 1e9:.2f} GB are "
        f"free. {verdict.sentence()}",
        "Trim textures, make the picture smaller, or run this one on another device.",
        "Nothing was started.",
    )
