"""The page that tells what the home takes on the disk, and frees what is no longer wanted."""

from __future__ import annotations

import shutil
from dataclasses import dataclass

from fastapi import APIRouter, Request
from fastapi.responses import Response
from pydantic import BaseModel

from mill_lane.jobs import space
from mill_lane.web.shared.context import AHome, Db, Done
from mill_lane.web.shared.format import size
from mill_lane.web.shared.pages import draw

router = APIRouter()
USED = "It is in use."
# What each kind is called, and what is lost when it is freed.
WORDS: dict[str, tuple[str, str]] = {
    "scenes": ("Scenes, every version of them", USED),
    "pictures": ("Pictures of trials and frames", USED),
    "skies": ("Pictures of skies", USED),
    "removed": ("Of jobs and trials that were put away", "It stays: they can be put back."),
    "work": ("What is being worked on", USED),
    "database": ("The database", USED),
    "exports": ("Scenes written in other formats", "They are written again on demand."),
    "failed": (
        "Where failed tasks would go on",
        "Run again, a render starts from nothing, and a scene has to be sent anew.",
    ),
    "copies": (
        "The database as it was before an update",
        "No way back to the edition of before.",
    ),
    "textures": (
        "Textures as they were decoded",
        "The next render of a scene decodes its own again: seconds.",
    ),
    "cache": ("The demo scene as it was built", "Building it again takes half a minute."),
    "unused": ("Files that nothing names", "Nothing is lost."),
    "leftovers": ("Remains of work that was cut off", "Nothing is lost."),
}


@dataclass(frozen=True)
class Line:
    """A row of the table."""

    name: str
    title: str
    size: int
    count: int
    loss: str
    freeable: bool


@router.get("/space", include_in_schema=False)
def page(request: Request, db: Db, home: AHome, freed: int | None = None) -> Response:
    """What is kept, by kind, the largest first."""
    held = space.survey(db, home)
    lines = [
        Line(h.name, title, h.size, h.count, loss, h.freeable and h.size > 0)
        for h in sorted(held, key=lambda h: -h.size)
        for title, loss in [WORDS[h.name]]
        if h.count
    ]
    free = [h for h in held if h.free]
    disk = shutil.disk_usage(home.folder)
    return draw(
        request,
        db,
        "home/space.html",
        title="What is kept",
        lines=lines,
        total=sum(h.size for h in held),
        free=sum(h.size for h in free),
        free_count=sum(h.count for h in free),
        free_names=[h.name for h in free],
        folder=home.folder,
        disk=disk,
        freed=size(freed) if freed is not None and freed >= 0 else None,
    )


class Names(BaseModel):
    """Kinds of things."""

    names: list[str]


@router.post("/api/space/free")
def free(home: AHome, wanted: Names) -> Done:
    """Free kinds of things; what is in use is never among them."""
    return Done(go=f"/space?freed={space.free(home, wanted.names)}")
