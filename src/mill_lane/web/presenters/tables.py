"""The tables of the Scene station: their columns, sorted, filtered, and as CSV."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from mill_lane.core.weigh.inventory import Inventory

FAR = 1e18  # where nothing is near, for sorting


@dataclass(frozen=True)
class Column:
    """A column: how it is called in addresses and in CSV, how rows are sorted by it, and what CSV says of them."""

    key: str
    title: str
    value: Callable[[Any], Any]
    rising: bool = False  # smallest first, when it is chosen
    on_page: bool = True


def _near(row: Any) -> float:
    return float(row.nearest_m) if row.nearest_m is not None else FAR


MESHES = (
    Column("name", "name", lambda m: m.name, True),
    Column("copies", "copies", lambda m: m.copies),
    Column("triangles", "triangles", lambda m: m.triangles),
    Column("vertices", "vertices", lambda m: m.vertices, on_page=False),
    Column("geometry", "geometry_bytes", lambda m: m.geometry_bytes, on_page=False),
    Column("acceleration", "acceleration_bytes", lambda m: m.acceleration_bytes, on_page=False),
    Column("memory", "memory_bytes", lambda m: m.memory_bytes),
    Column("nearest", "nearest_m", _near, True),
    Column("frame", "nearest_frame", lambda m: m.nearest_frame, on_page=False),
    Column("seen", "in_view", lambda m: m.in_view, on_page=False),
    Column("copy", "twin_of", lambda m: m.twin_of if m.twin_of is not None else -1, on_page=False),
)
TEXTURES = (
    Column("name", "name", lambda t: t.name, True),
    Column("role", "used_for", lambda t: t.role, True),
    Column("pixels", "width", lambda t: t.width * t.height),
    Column("height", "height", lambda t: t.height, on_page=False),
    Column("bits", "bits", lambda t: t.channels * t.bits),
    Column("channels", "channels", lambda t: t.channels, on_page=False),
    Column("file", "file_bytes", lambda t: t.file_bytes),
    Column("memory", "memory_bytes", lambda t: t.memory_bytes),
    Column("nearest", "nearest_m", _near, True),
    Column("seen", "in_view", lambda t: t.in_view, on_page=False),
)
LIGHTS = (
    Column("name", "name", lambda x: x.name, True),
    Column("kind", "kind", lambda x: x.kind, True),
    Column("power", "power", lambda x: x.power),
    Column("size", "size_m", lambda x: x.size_m, True),
    Column("nearest", "nearest_m", _near, True),
)
TABLES: dict[str, tuple[Column, ...]] = {"meshes": MESHES, "textures": TEXTURES, "lights": LIGHTS}
USUAL = {"meshes": "memory", "textures": "memory", "lights": "power"}


def rows(i: Inventory, table: str, sort: str = "", turned: bool = False, words: str = "") -> list[Any]:
    """The rows of a table whose name, role or kind holds every word, in the order of a column, turned round or not."""
    column = next((c for c in TABLES[table] if c.key == sort), None) or next(c for c in TABLES[table] if c.key == USUAL[table])
    wanted = words.lower().split()
    found = [r for r in getattr(i, table) if all(w in _text(r) for w in wanted)]
    # By name first: rows that are alike in the column stand in the order of their names.
    found.sort(key=lambda r: r.name)
    found.sort(key=column.value, reverse=column.rising == turned)
    return found


def _text(row: Any) -> str:
    extra = getattr(row, "role", None) or getattr(row, "kind", None) or ""
    copy = " copy" if getattr(row, "twin_of", None) is not None else ""
    unseen = "" if getattr(row, "in_view", True) else " not seen"
    return f"{row.name} {extra}{copy}{unseen}".lower()


def as_csv(table: str, found: list[Any]) -> str:
    """The rows as CSV (RFC 4180), every figure in full; a text that a spreadsheet would take for a formula gets a quote."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([c.title for c in TABLES[table]])
    for row in found:
        writer.writerow([_cell(getattr(row, _field(c), None)) for c in TABLES[table]])
    return out.getvalue()


def _field(c: Column) -> str:
    return "role" if c.title == "used_for" else c.title


def _cell(value: Any) -> Any:
    if value is None:
        return ""
    if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r"):
        return "'" + value
    return value
