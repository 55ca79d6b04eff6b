"""What the Scene station shows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.core.formats.units import NAMES as UNIT_NAMES
from mill_lane.core.formats.units import in_words
from mill_lane.core.weigh.analysis import STAGES, Analysis, MeshRow
from mill_lane.core.weigh.counts import texture_counts
from mill_lane.core.weigh.findings import find
from mill_lane.core.words import plural
from mill_lane.jobs.looks import look_of
from mill_lane.jobs.lookup import latest_task
from mill_lane.jobs.summary import Summary
from mill_lane.jobs.versions import read_as
from mill_lane.store.models import Task
from mill_lane.web.shared.format import count
from mill_lane.web.shared.memo import remembered
from mill_lane.web.shared.station import Figure
from mill_lane.web.stations.scene import tables
from mill_lane.web.stations.scene.floor_plan import HEIGHT, SHADINGS, WIDTH, floor_plan
from mill_lane.web.stations.scene.words import said
from mill_lane.work.kinds.camera import PUT_UP
from mill_lane.work.kinds.first_look import size_of

KEPT = 32  # plans and lists of findings that are remembered
MOST_ROWS = 500  # of a table that a page shows
SCHEMES = {"catmullClark": "Catmull-Clark", "loop": "Loop"}


@dataclass
class Asked:
    """What the address asks for."""

    tab: str = "meshes"
    sort: str = ""
    turned: bool = False
    q: str = ""
    mesh: int | None = None
    image: int | None = None
    shade: str = "memory"
    frame: int | None = None


def figure(summary: Summary) -> Figure:
    """Triangles; a mark where something was told when the file came in."""
    a = summary.analysis
    warned = any(n.level in ("look", "lost") for n in a.notes)
    return Figure(f"{count(a.triangles)} tris", "look" if warned else "order")


def headline(a: Analysis) -> str:
    """The scene in a line."""
    return (
        f"{count(a.triangles)} triangles, {texture_counts(a).words}, "
        f"{plural(len(a.lights), 'light')}"
    )


def context(summary: Summary, asked: Asked, weighing: Task | None, db: Session) -> dict[str, Any]:
    """All that the page needs beside what every station has."""
    a, height = summary.analysis, summary.height
    tab = asked.tab if asked.tab in tables.TABLES or asked.tab == "transparency" else "meshes"
    sort = asked.sort
    if tab in tables.TABLES and all(x.key != sort for x in tables.TABLES[tab]):
        sort = tables.USUAL[tab]
    shade = asked.shade if asked.shade in SHADINGS else "memory"
    scale = height / a.visibility.height if a.visibility else 1.0
    first, last = a.frames
    frame = min(max(asked.frame if asked.frame is not None else first, first), last)
    found = tables.rows(a, tab, sort, asked.turned, asked.q) if tab in tables.TABLES else []
    shape = size_of(summary.final.width / summary.final.height)
    plan = _plan(a, frozenset(_marked(a, asked)), shade, scale, frame)
    return {
        "tab": tab,
        "sort": sort,
        "turned": asked.turned,
        "q": asked.q,
        "mesh": asked.mesh,
        "image": asked.image,
        "shade": shade,
        "frame": frame,
        "scale": scale,
        "headline": headline(a),
        "findings": _findings(a, height),
        "classes": tables.CLASSES,
        "rows": found[:MOST_ROWS],
        "found": len(found),
        "shadings": SHADINGS,
        "units": UNIT_NAMES,
        "read_as": read_as(a),
        "says": in_words(a.declared) if a.declared else "",
        "plan": plan,
        "plan_size": (WIDTH, HEIGHT),
        "stages": STAGES,
        "chosen": next((m for m in a.meshes if m.index == asked.mesh), None),
        "schemes": SCHEMES,
        "weighing": weighing,
        "look": look_of(db, summary, frame if asked.frame is not None else None),
        "look_wish": {
            "role": "final",
            "camera": summary.final.camera,
            "frame": frame,
            "width": shape[0],
            "height": shape[1],
        },
        "cameras": latest_task(db, PUT_UP.name, summary.job),
        "rising": tables.RISING,
        "tabs": _tabs(a),
    }


# Both take long to work out, and pages are drawn anew whenever something happens.
_plan = remembered(KEPT)(floor_plan)


@remembered(KEPT)
def _findings(a: Analysis, height: int) -> list[Any]:
    return [said(f) for f in find(a, height)]


def _marked(a: Analysis, asked: Asked) -> set[int]:
    """Meshes that are marked on the plan: the chosen one, or those that wear the chosen texture."""

    def wears(m: MeshRow) -> bool:
        return asked.image is not None and asked.image in m.images

    return {m.index for m in a.meshes if m.index == asked.mesh or wears(m)}


def _tabs(a: Analysis) -> list[tuple[str, str, int]]:
    return [
        ("meshes", "Meshes", len(a.meshes)),
        ("textures", "Textures stored", texture_counts(a).stored),
        ("lights", "Lights", len(a.lights)),
        ("transparency", "Transparency", a.transparent_materials),
    ]
