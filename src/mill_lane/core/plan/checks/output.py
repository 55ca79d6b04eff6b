"""Checks of the folder of frames and of its disk."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable
from pathlib import Path

from mill_lane.core.plan.checks.model import Asked, Found, Level, Mend
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.render.layers import pictures
from mill_lane.core.words import plural

FLOAT, HALF = 4, 2  # bytes


def output(asked: Asked) -> Iterable[Found]:
    """Whether anything is written, where it can be, and what is there."""
    sheet, folder, frames = asked.sheet, asked.folder, asked.frames
    if not sheet.endings:
        text = "Nothing would be written: choose EXR, PNG or JPEG."
        yield Found("output", "error", text, mend=Mend("write EXR", sheet={"exr": "half"}))
        return
    place = existing(sheet.paths(folder, frames[0])[0].parent)
    if not os.access(place, os.W_OK):
        yield Found("output", "error", f"{place} cannot be written.")
        return
    present = [n for s in (sheet, *asked.others) for n in s.begun(folder, frames)]
    if not present:
        yield Found("output", "ok", f"Written below {folder}.")
        return
    said: dict[str, tuple[Level, str]] = {
        "refuse": ("error", "it would not begin"),
        "skip": ("ok", "those that are whole are left as they are"),
        "overwrite": ("warning", "they are written over"),
    }
    level, words = said[sheet.there]
    mend = None if level == "ok" else Mend("leave them, do the rest", sheet={"there": "skip"})
    many = f"{len(present)} frames" if len(present) > 1 else "one frame"
    text = f"Of {many} there are files already: {words}."
    yield Found("output", level, text, mend=mend)


def disk(asked: Asked) -> Iterable[Found]:
    """Whether there is room for all frames."""
    final, count, known = asked.shot.recipe, asked.shots, pictures()
    channels = 3 + sum(
        len(p.channels) for name in final.kept_layers if (p := known.get(name)) is not None
    )
    needed = room_for(asked.sheet, count, final.width, final.height, channels)
    free = free_bytes(asked.folder)
    if free is not None:
        text = (
            f"{needed / 1e9:.2f} GB at most for {plural(count, 'frame')}, {free / 1e9:.1f} GB free."
        )
        yield Found("disk", "ok" if needed < free else "error", text)


def room_for(sheet: RunSheet, frames: int, width: int, height: int, channels: int) -> int:
    """Bytes that a run is predicted to write at most: its own files, and what is kept here.

    EXR is taken as not compressed at all; a PNG as three bytes a pixel, a JPEG as one.
    """
    pixels = width * height
    own = 0
    if sheet.exr:
        wide = channels if sheet.layers == "all" else 3
        own += pixels * wide * (HALF if sheet.exr == "half" else FLOAT)
    own += 3 * pixels * sheet.png + pixels * bool(sheet.jpeg)
    # A state has about twice the sums that the layers are means of: squares beside them.
    kept = pixels * (channels * FLOAT * (3 if sheet.keep_states else 1) + 3)
    return frames * (own + kept)


def free_bytes(folder: Path) -> int | None:
    """Bytes that are free where frames are written; None where that cannot be told."""
    try:
        return shutil.disk_usage(existing(folder)).free
    except OSError:
        return None


def existing(place: Path) -> Path:
    """The folder itself, or the nearest above it that is there."""
    while not place.exists() and place != place.parent:
        place = place.parent
    return place
