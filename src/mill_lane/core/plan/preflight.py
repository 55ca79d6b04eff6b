"""What to look at before a render starts.  Each check is one function and one entry in `CHECKS`."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Literal

from mill_lane.core.devices.model import Device
from mill_lane.core.recipe import Recipe
from mill_lane.core.registry import Registry
from mill_lane.core.scene.defaults import ADDED_CAMERA
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.ledger import draw_up, judge
from mill_lane.core.words import plural


@dataclass(frozen=True)
class Shot:
    """What is about to be rendered, and on what.

    `made_for` is the height in pixels of the largest picture that the scene's trims are good for,
    0 for any; `delivered` that of the largest one that is delivered, where it is known.
    """

    analysis: Analysis
    recipe: Recipe
    device: Device
    made_for: int = 0
    delivered: int = 0


@dataclass(frozen=True)
class Result:
    """What a check found.  `code` is what programs go by, `text` is for people."""

    code: str
    level: Literal["ok", "warning", "error"]
    text: str


@dataclass(frozen=True)
class Check:
    """A check: `look` gives what it found, one result or several."""

    name: str
    look: Callable[[Shot], Iterable[Result]]


def memory(shot: Shot) -> Iterable[Result]:
    """Whether the picture fits the device."""
    verdict = judge(draw_up(shot.analysis, shot.recipe, shot.device), shot.device.free_bytes)
    if verdict.fits:
        yield Result("memory", "ok", f"It fits {shot.device.name}.")
    else:
        text = f"It does not fit {shot.device.name}. {verdict.sentence()}"
        yield Result("memory", "error", text)


def threads(shot: Shot) -> Iterable[Result]:
    """Whether the computer stays usable (one thread kept free, common practice)."""
    d = shot.device
    if not d.batches:
        text = f"{d.threads_free} of {d.threads} threads kept free for other work."
        yield Result("threads", "ok" if d.threads_free > 0 else "warning", text)


def textures(shot: Shot) -> Iterable[Result]:
    """Whether all textures are there."""
    missing = [t.name for t in shot.analysis.textures if t.missing]
    text = (
        f"{plural(len(missing), 'texture is', 'textures are')} missing."
        if missing
        else "No texture is missing."
    )
    yield Result("textures", "warning" if missing else "ok", text)


def camera(shot: Shot) -> Iterable[Result]:
    """Whether the camera is the file's own."""
    added = shot.analysis.camera == ADDED_CAMERA
    text = f"Camera “{shot.analysis.camera}”."
    yield Result("camera", "warning" if added else "ok", text)


def trimmed_for(shot: Shot) -> Iterable[Result]:
    """Whether the scene was trimmed for a picture as large as this one, and as is delivered."""
    largest = max(shot.recipe.height, shot.delivered)
    if 0 < shot.made_for < largest:
        text = (
            f"The textures and shapes of this version were trimmed for a picture {shot.made_for} "
            f"px high, {largest} are wanted: near things will look soft. Trim an earlier version "
            f"for {largest} px."
        )
        yield Result("trimmed_for", "warning", text)


def notes(shot: Shot) -> Iterable[Result]:
    """What was told when the file came in and wants a look."""
    for note in shot.analysis.notes:
        if note.level == "look":
            yield Result(note.code, "warning", note.text)


CHECKS = Registry(
    "check",
    Check("memory", memory),
    Check("threads", threads),
    Check("textures", textures),
    Check("camera", camera),
    Check("trimmed_for", trimmed_for),
    Check("notes", notes),
)


def preflight(shot: Shot) -> list[Result]:
    """Make every check, in the order of the registry."""
    return [result for check in CHECKS for result in check.look(shot)]
