"""Drawing pages: what every page needs, and what every station starts from."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from fastapi import Request
from fastapi.responses import Response
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from mill_lane.jobs.lookup import find_job
from mill_lane.jobs.opening import opening_task
from mill_lane.jobs.summary import Summary, summarise
from mill_lane.jobs.tasks import news_of_look, note_look, waiting
from mill_lane.store.models import SceneVersion
from mill_lane.store.transactions import begin
from mill_lane.web.shared.context import settings_of
from mill_lane.web.shared.events import stamp_of
from mill_lane.web.shared.health import troubles
from mill_lane.web.shared.help import help_of
from mill_lane.web.shared.station_nav import station_nav


def draw(request: Request, db: Session, template: str, **more: Any) -> Response:
    """Draw a page; what every page needs is added here."""
    context = {
        "stamp": stamp_of(db),
        "waiting": waiting(db),
        "troubles": troubles(settings_of(request)),
        **more,
    }
    response: Response = request.app.state.templates.TemplateResponse(request, template, context)
    return response


@dataclass(frozen=True)
class StationPage:
    """What a station's page starts from; `draw` draws it."""

    request: Request
    db: Session
    name: str
    title: str
    summary: Summary

    def draw(self, template: str = "page.html", **more: Any) -> Response:
        """Draw a template of the station."""
        s = self.summary
        context = {
            "title": f"{self.title} · {s.job.name}",
            "here": self.name,
            "job": s.job,
            "version": s.version,
            "analysis": s.analysis,
            "device": s.device,
            "summary": s,
            "final": s.final,
            "stops": station_nav(self.request.app.state.stations, s),
            "base": f"/jobs/{s.job.id}",
            "help": help_of(self.name),
        }
        return draw(self.request, self.db, f"{self.name}/{template}", **{**context, **more})


def _note_look(request: Request, db: Session, number: int) -> None:
    """Let the looks and figures of this job come before those of others.

    Written by a session of its own, and only when another job was looked at before; where the
    database is busy the next page does it.
    """
    if not news_of_look(db, number):
        return
    with suppress(OperationalError), settings_of(request).home.sessions() as own:
        begin(own)
        note_look(own, number)
        own.commit()


def station_page(
    request: Request, db: Session, number: int, name: str, title: str
) -> StationPage | Response:
    """Begin a station's page; while the scene is still being opened, a page that says so."""
    job = find_job(db, number)
    _note_look(request, db, number)
    version = db.get(SceneVersion, job.version_id) if job.version_id else None
    if version is None:
        task = opening_task(db, job)
        return draw(request, db, "shared/opening.html", title=job.name, job=job, task=task)
    return StationPage(request, db, name, title, summarise(db, job, version))
