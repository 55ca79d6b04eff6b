"""What routes share: the settings, the installation, and a database session for each request."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated

from fastapi import Depends, Request
from pydantic import BaseModel
from sqlalchemy.orm import Session

from mill_lane.store.home import Home
from mill_lane.store.transactions import begin, look
from mill_lane.web.shared.security import READING
from mill_lane.web.shared.settings import Settings


class Done(BaseModel):
    """The answer to a change; `go` names a page to show next."""

    go: str | None = None


def settings_of(request: Request) -> Settings:
    """How this server was started."""
    settings: Settings = request.app.state.settings
    return settings


def home_of(request: Request) -> Home:
    """The installation."""
    return settings_of(request).home


def session_of(request: Request) -> Iterator[Session]:
    """A session for one request; committed when it went well.

    One that changes things has the write lock from the start: others wait for it, or are told to.
    One that reads sees all of it at one moment.
    """
    with home_of(request).sessions() as session:
        (look if request.method in READING else begin)(session)
        yield session
        session.commit()


# Committed before the answer goes out: the page asks again at once, and must see what it changed.
Db = Annotated[Session, Depends(session_of, scope="function")]
AHome = Annotated[Home, Depends(home_of)]


def file_stem(name: str) -> str:
    """A job's name as the name of a file."""
    kept = "".join(ch if ch.isalnum() or ch in "-_ " else "_" for ch in name)
    return kept.strip() or "scene"
