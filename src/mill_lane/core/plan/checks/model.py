"""What a check of a range goes by, and what it tells."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any, Literal

from mill_lane.core.plan.estimate import Estimate
from mill_lane.core.plan.night import TimeLeft
from mill_lane.core.plan.preflight import Shot
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.plan.way import Way

Level = Literal["ok", "warning", "error"]


@dataclass(frozen=True)
class Mend:
    """What puts in order what a check found.

    Attributes
    ----------
    title : str
        What it does, on a button.
    recipe, sheet : mapping
        Fields of the final recipe and of the run sheet that it changes.
    """

    title: str
    recipe: Mapping[str, Any] = field(default_factory=dict)
    sheet: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Found:
    """What a check found; the station where it is seen, empty for the sheet itself; what mends it.

    `code` is what programs go by, `text` is for people.
    """

    code: str
    level: Level
    text: str
    place: str = ""
    mend: Mend | None = None


@dataclass(frozen=True)
class Asked:
    """A range that is about to be rendered, and what is known of it.

    Attributes
    ----------
    shot : Shot
    sheet : RunSheet
    folder : Path
        Of frames.
    frame : Estimate or None
        What a frame takes, by a trial.
    every : TimeLeft or None
        What all of them take, by a rehearsal.
    way : Way or None
        How they are to be rendered, where it may be done with less memory.
    hidden : tuple of str
        Objects that trims keep from the camera.
    now : datetime or None
        The time of the day, for a deadline.
    others : tuple of RunSheet
        Sheets of the other cameras, which come after this one.
    """

    shot: Shot
    sheet: RunSheet
    folder: Path
    frame: Estimate | None = None
    every: TimeLeft | None = None
    way: Way | None = None
    hidden: tuple[str, ...] = ()
    now: datetime | None = None
    others: tuple[RunSheet, ...] = ()

    @property
    def frames(self) -> list[int]:
        """The frames in their order."""
        return self.sheet.listed(self.shot.analysis.frames)

    @property
    def shots(self) -> int:
        """How many pictures they are, with those of all cameras."""
        return len(self.frames) * (1 + len(self.others))


@dataclass(frozen=True)
class Check:
    """A check: `look` gives what it found, nothing, one thing or several."""

    name: str
    look: Callable[[Asked], Iterable[Found]]
