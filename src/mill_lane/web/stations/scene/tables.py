"""The tables of the Scene station: their columns, sorted, filtered, and as CSV."""

from __future__ import annotations

import contextlib
import csv
import io
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from mill_lane.core.weigh.analysis import Analysis

DIGITS = 18  # of a number within a name, at most
FAR = 1e18  # where nothing is near, for sorting
# How a thing matters, in the words that the tables say and the filter finds; the most first.
CLASSES = {
    "camera": "seen",
    "reflection": "in reflection",
    "light_only": "lights only",
    "never": "never",
}
RANK = {c: n for n, c in enumerate(CLASSES)}


@dataclass(frozen=True)
class Column:
    """A column:

    how it is called in addresses and in CSV, how rows are sorted by it, and what CSV says of them.
    """

    key: str
    title: str
    value: Callable[[Any], Any]
    rising: bool = False  # smallest first, when it is chosen
    on_page: bool = True


def _near(row: Any) -> float:
    return float(row.nearest_m) if row.nearest_m is not None else FAR


def _or_least(name: str) -> Callable[[Any], float]:
    """A figure that is not known sorts below all that are."""
    return lambda row: -1.0 if getattr(row, name) is None else float(getattr(row, name))


def _class(row: Any) -> tuple[int, float]:
    return RANK.get(row.seen or "", len(RANK)), -float(getattr(row, "share", None) or 0.0)


MESHES = (
    Column("name", "name", lambda m: m.name, True),
    Column("copies", "copies", lambda m: m.copies),
    Column("triangles", "triangles", lambda m: m.triangles),
    Column("vertices", "vertices", lambda m: m.vertices, on_page=False),
    Column("geometry", "geometry_bytes", lambda m: m.geometry_bytes, on_page=False),
    Column("acceleration", "acceleration_bytes", lambda m: m.acceleration_bytes, on_page=False),
    Column("memory", "memory_bytes", lambda m: m.memory_bytes),
    Column("nearest", "nearest_m", _near, True),
    Column("frame", "nearest_frame", lambda m: m.nearest_frame or 0, on_page=False),
    Column("edge", "edge_px", _or_least("edge_px"), True),
    Column("density", "triangles_per_px", _or_least("triangles_per_px")),
    Column("seen", "seen", _class, True),
    Column("share", "share", _or_least("share"), on_page=False),
    Column("shown", "share_frame", _or_least("share_frame"), on_page=False),
    Column("view", "in_view", lambda m: m.in_view, on_page=False),
    Column("behind", "behind", lambda m: m.behind, on_page=False),
    Column(
        "copy",
        "duplicate_of",
        lambda m: m.duplicate_of if m.duplicate_of is not None else -1,
        on_page=False,
    ),
)
TEXTURES = (
    Column("name", "name", lambda t: t.name, True),
    Column("role", "used_for", lambda t: t.role, True),
    Column("pixels", "width", lambda t: t.width * t.height),
    Column("height", "height", lambda t: t.height, on_page=False),
    Column("need", "need_px", lambda t: max(t.texel_need) if t.texel_need else -1.0),
    Column("bits", "bits", lambda t: t.channels * t.bits),
    Column("channels", "channels", lambda t: t.channels, on_page=False),
    Column("used", "channels_used", _or_least("channels_used"), on_page=False),
    Column("deep", "bits_used", _or_least("bits_used"), on_page=False),
    Column("why", "why", lambda t: t.why, on_page=False),
    Column("same", "same_as", _or_least("same_as"), on_page=False),
    Column("file", "file_bytes", lambda t: t.file_bytes),
    Column("memory", "memory_bytes", lambda t: t.memory_bytes),
    Column("wasted", "wasted_bytes", lambda t: t.wasted_bytes()),
    Column("nearest", "nearest_m", _near, True),
    Column("seen", "seen", _class, True, on_page=False),
    Column("view", "in_view", lambda t: t.in_view, on_page=False),
)
LIGHTS = (
    Column("name", "name", lambda x: x.name, True),
    Column("kind", "kind", lambda x: x.kind, True),
    Column("power", "power", lambda x: x.power),
    Column("size", "size_m", lambda x: x.size_m, True),
    Column("nearest", "nearest_m", _near, True),
    Column("reach", "reach_m", _or_least("reach_m")),
    Column("share", "share", _or_least("share")),
)
TABLES: dict[str, tuple[Column, ...]] = {"meshes": MESHES, "textures": TEXTURES, "lights": LIGHTS}
USUAL = {"meshes": "memory", "textures": "memory", "lights": "power"}


def by_name(name: str) -> list[tuple[int, str]]:
    """A name for sorting: numbers within it by their value, so that 2 goes before 10."""
    pieces = re.split(r"(\d+)", name.lower())
    return [(int(p), "") if p.isdigit() and len(p) < DIGITS else (0, p) for p in pieces]


def rows(
    i: Analysis, table: str, sort: str = "", turned: bool = False, words: str = ""
) -> list[Any]:
    """The rows of a table that hold every word, in the order of a column, turned round or not.

    Words are looked for in name, role, kind and how the thing matters; ">30" and "<3" ask for
    metres from the camera.
    """
    column = next((c for c in TABLES[table] if c.key == sort), None) or next(
        c for c in TABLES[table] if c.key == USUAL[table]
    )
    wanted = words.lower().split()
    found = [r for r in getattr(i, table) if all(_holds(r, w) for w in wanted)]
    # By name first: rows that are alike in the column stand in the order of their names.
    found.sort(key=lambda r: by_name(r.name))
    found.sort(key=column.value, reverse=column.rising == turned)
    return found


def _holds(row: Any, word: str) -> bool:
    if word[0] in "<>":
        with contextlib.suppress(ValueError):
            metres = float(word[1:].removesuffix("m"))
            return _near(row) > metres if word[0] == ">" else _near(row) < metres
    return word in _text(row)


def _text(row: Any) -> str:
    more = [
        getattr(row, "role", ""),
        getattr(row, "kind", ""),
        CLASSES.get(getattr(row, "seen", None) or "", ""),
    ]
    more += ["copy"] if getattr(row, "duplicate_of", None) is not None else []
    more += [] if getattr(row, "in_view", True) else ["not in view"]
    more += ["behind the camera"] if getattr(row, "behind", False) else []
    more += ["same"] if getattr(row, "same_as", None) is not None else []
    more += ["unused bits", row.why] if getattr(row, "why", "") else []
    used = getattr(row, "memory_bytes", 1) > 0 or not hasattr(row, "mime")
    more += [] if used else ["used by nothing"]
    return " ".join([row.name, *more]).lower()


def as_csv(table: str, found: list[Any]) -> str:
    """The rows as CSV (RFC 4180), every figure in full; a text that a spreadsheet would take for a
    formula gets a quote.
    """
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([c.title for c in TABLES[table]])
    for row in found:
        writer.writerow([_cell(c, row) for c in TABLES[table]])
    return out.getvalue()


def _cell(c: Column, row: Any) -> Any:
    named = {"used_for": "role", "need_px": "texel_need"}.get(c.title, c.title)
    value = getattr(row, named, None)
    if callable(value):
        value = value()
    if isinstance(value, tuple):
        return " x ".join(f"{x:.0f}" for x in value)
    if value is None:
        return ""
    if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r"):
        return "'" + value
    return value


RISING = {c.key for table in TABLES.values() for c in table if c.rising}
