"""Checks of the list of frames."""

from __future__ import annotations

from collections.abc import Iterable

from mill_lane.core.plan.checks.model import Asked, Found, Mend
from mill_lane.core.plan.frames import frames_in_words, parse_frames


def frames_twice(asked: Asked) -> Iterable[Found]:
    """Whether a frame is named twice; every fourth first and then the rest is meant so."""
    sheet = asked.sheet
    parts = [p for p in sheet.frames.split(",") if p.strip()]
    frames = parse_frames(sheet.frames)
    twice = sum(len(parse_frames(p)) for p in parts) - len(frames)
    if twice and not (len(parts) > 1 and any("x" in p for p in parts)):
        text = f"{twice} frames are named twice, and done once."
        mend = Mend("name them once", sheet={"frames": frames_in_words(frames)})
        yield Found("twice", "warning", text, mend=mend)


def nothing_moves(asked: Asked) -> Iterable[Found]:
    """Whether there is a range at all."""
    first, last = asked.shot.analysis.frames
    if first == last:
        yield Found("still", "ok", "Nothing moves: the scene has one frame.")
