"""Files of a sequence, named with a digit pattern: `shot.####.exr`, `shot.%04d.exr`."""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass
from pathlib import Path

from mill_lane.core.errors import MillError

DIGITS = re.compile(r"#+|%0?(\d*)d")
MOST_GAPS = 12  # ranges that are told one by one


@dataclass(frozen=True)
class Pattern:
    """A name with a place for the frame's number, of at least `width` digits."""

    folder: Path
    before: str
    width: int
    after: str

    def path(self, frame: int) -> Path:
        """The file of a frame."""
        sign = "-" if frame < 0 else ""
        return self.folder / f"{self.before}{sign}{abs(frame):0{self.width}d}{self.after}"

    def frames(self) -> list[int]:
        """Frames whose files are there, in order."""
        wanted = re.compile(
            re.escape(self.before) + rf"(-?\d{{{self.width},}})" + re.escape(self.after)
        )
        if not self.folder.is_dir():
            return []
        found = (wanted.fullmatch(p.name) for p in self.folder.iterdir())
        numbers = {int(m[1]) for m in found if m}
        # Of two spellings of one number only that counts which the pattern writes.
        return sorted(n for n in numbers if self.path(n).exists())


def pattern_of(name: str | Path) -> Pattern | None:
    """The pattern that a name holds; None where it holds none.

    Raises
    ------
    MillError
        Where it holds more than one.
    """
    path = Path(name)
    found = list(DIGITS.finditer(path.name))
    if not found:
        return None
    if len(found) > 1:
        raise MillError(
            f"“{path.name}” has {len(found)} places for a number.", "Leave one: shot.####.exr."
        )
    m = found[0]
    width = len(m[0]) if m[0].startswith("#") else int(m[1] or 1)
    return Pattern(path.parent, path.name[: m.start()], width, path.name[m.end() :])


def gaps(frames: list[int]) -> list[tuple[int, int]]:
    """Ranges of frames that are missing between the first and the last, ends included."""
    return [(a + 1, b - 1) for a, b in itertools.pairwise(frames) if b > a + 1]


def gaps_in_words(frames: list[int]) -> str:
    """What is missing, in words; empty where nothing is."""
    found = gaps(frames)
    if not found:
        return ""
    told = [f"{a}" if a == b else f"{a} to {b}" for a, b in found[:MOST_GAPS]]
    more = f" and {len(found) - MOST_GAPS} more ranges" if len(found) > MOST_GAPS else ""
    count = sum(b - a + 1 for a, b in found)
    return f"{count} frame{'s' * (count > 1)} missing: {', '.join(told)}{more}"
