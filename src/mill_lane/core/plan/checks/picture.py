"""Checks that a range shares with a single picture, and its memory."""

from __future__ import annotations

from collections.abc import Iterable

from mill_lane.core.plan.checks.model import Asked, Found
from mill_lane.core.plan.less_memory import made_to_fit
from mill_lane.core.plan.preflight import preflight

# The others are seen with the scene.
PLACES = {"memory": "fit", "threads": "machine", "trimmed_for": "trim"}


def memory(asked: Asked) -> Iterable[Found]:
    """Whether all frames fit the device, or would with less.

    Geometry and textures of all frames are held together, so the heaviest frame takes no more.
    """
    way, sheet = asked.way, asked.sheet
    if way is None or way.fits:
        return
    found, taken = made_to_fit(way, sheet.rungs)
    over = f"It needs {way.ledger.whole / 1e9:.2f} GB, {way.device.name} has "
    over += f"{way.device.free_bytes / 1e9:.2f} GB free"
    if not found.fits:
        text = f"{over}, and no step that is allowed makes it fit."
        yield Found("memory", "error", text, "fit")
        return
    steps = "; ".join(rung.title for rung in taken)
    text = f"{over}. It would go on with less, {found.ledger.whole / 1e9:.2f} GB: {steps}."
    yield Found("memory", "warning", text, "fit")


def picture(asked: Asked) -> Iterable[Found]:
    """What is looked at before any picture."""
    told = asked.way is not None and not asked.way.fits  # by `memory`
    for r in preflight(asked.shot):
        if r.code != "memory" or not told:
            yield Found(r.code, r.level, r.text, PLACES.get(r.code, "scene"))
