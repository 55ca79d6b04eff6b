"""The strip of stations: each with its live figure and a mark."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from mill_lane.jobs.summary import Summary
from mill_lane.web.shared.station import WORDS, Figure, Mark, Station


@dataclass(frozen=True)
class Stop:
    """A station as it stands in the strip."""

    name: str
    title: str
    key: int
    figure: str
    mark: Mark
    predicted: bool
    task: int | None

    @property
    def word(self) -> str:
        """What the mark means."""
        return WORDS[self.mark]


def station_nav(stations: Iterable[Station], summary: Summary) -> list[Stop]:
    """Draw up the strip for a job."""
    return [_stop(i + 1, s, s.figure(summary)) for i, s in enumerate(stations)]


def _stop(key: int, s: Station, f: Figure) -> Stop:
    return Stop(s.name, s.title, key, f.text, f.mark, f.predicted, f.task)
