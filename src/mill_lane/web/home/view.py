"""The jobs as they are listed."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from sqlalchemy.orm import Session

from mill_lane.jobs.looks import FirstLook, newest_looks
from mill_lane.jobs.opening import jobs, opening_task
from mill_lane.jobs.summary import summarise
from mill_lane.store.models import Job, SceneVersion, Task
from mill_lane.web.shared.station import Station
from mill_lane.web.shared.station_nav import Stop, station_nav


@dataclass(frozen=True)
class Card:
    """A job in the list: its strip of stations, or how far its scene is."""

    job: Job
    version: SceneVersion | None
    task: Task | None
    stops: list[Stop]
    look: FirstLook | None = None


def cards(db: Session, stations: Iterable[Station]) -> list[Card]:
    """All jobs, with the figures of each."""
    found = jobs(db)
    looks = newest_looks(db, [j.version_id for j in found if j.version_id], [j.id for j in found])
    return [_card(db, job, list(stations), looks) for job in found]


def _card(db: Session, job: Job, stations: list[Station], looks: Mapping[int, FirstLook]) -> Card:
    version = db.get(SceneVersion, job.version_id) if job.version_id else None
    if version is None:
        return Card(job, None, opening_task(db, job), [])
    stops = station_nav(stations, summarise(db, job, version))
    return Card(job, version, None, stops, looks.get(version.id))
