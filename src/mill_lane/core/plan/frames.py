"""Lists of frames as people write them: 1-160, 1-160x4, 12,40,96."""

from __future__ import annotations

import re
from collections.abc import Sequence

from mill_lane.core.errors import MillError

PART = re.compile(r"(-?\d{1,7})(?:\s*-\s*(-?\d{1,7})(?:\s*x\s*(\d{1,7}))?)?")
MOST = 100_000  # frames of one list


def parse_frames(text: str, known: tuple[int, int] | None = None) -> list[int]:
    """Read a list of frames, in the order in which it is written.

    Parameters
    ----------
    text : str
        Numbers, ranges and ranges with a step, with commas between: "1-160x4, 1-160" is every
        fourth first and then the rest.  A frame that comes twice is taken once.
    known : (int, int), optional
        The first and the last frame that there are.

    Raises
    ------
    MillError
        For what cannot be read, ranges that run backwards, and frames that there are none of.
    """
    found: dict[int, None] = {}
    for part in text.split(","):
        m = PART.fullmatch(part.strip())
        if m is None:
            raise MillError(
                f"“{part.strip()}” is no frame and no range of frames.",
                "Write 1-160, 1-160x4 for every fourth, or 12, 40, 96.",
            )
        first = int(m[1])
        last = int(m[2]) if m[2] else first
        step = int(m[3]) if m[3] else 1
        if last < first or step < 1:
            raise MillError(
                f"The range “{part.strip()}” has no frames.",
                "Write the smaller number first, and a step of at least 1.",
            )
        if (last - first) // step + len(found) >= 2 * MOST:
            raise MillError(f"“{text}” has over {MOST} frames.", "Write a shorter range.")
        found.update(dict.fromkeys(range(first, last + 1, step)))
    if len(found) > MOST:
        raise MillError(f"“{text}” has over {MOST} frames.", "Write a shorter range.")
    if known is not None:
        outside = [n for n in found if not known[0] <= n <= known[1]]
        if outside:
            raise MillError(
                f"Frame {outside[0]} is outside the range {known[0]} to {known[1]}.",
                "Choose frames of the scene's range.",
            )
    return list(found)


def frames_in_words(frames: Sequence[int]) -> str:
    """Write a list of frames as short as it goes; `parse_frames` reads the same list from it."""
    parts: list[str] = []
    k = 0
    while k < len(frames):
        end, step = k, 0
        if k + 1 < len(frames) and frames[k + 1] > frames[k]:
            step = frames[k + 1] - frames[k]
            while end + 1 < len(frames) and frames[end + 1] - frames[end] == step:
                end += 1
        if end - k >= 2 or (end - k == 1 and step == 1):
            by = f"x{step}" if step > 1 else ""
            parts.append(f"{frames[k]}-{frames[end]}{by}")
        else:
            end = k
            parts.append(str(frames[k]))
        k = end + 1
    return ", ".join(parts)


def early(frames: Sequence[int]) -> list[int]:
    """Put frames into an order that shows the range early: the first, the last, the middle, then
    the middles between those that are there, the widest gaps first.
    """
    if len(frames) < 3:
        return list(frames)
    order = [0, len(frames) - 1]
    level = [(0, len(frames) - 1)]
    while level:
        below = []
        for low, high in level:
            if high - low < 2:
                continue
            middle = (low + high) // 2
            order.append(middle)
            below += [(low, middle), (middle, high)]
        level = below
    return [frames[k] for k in order]
