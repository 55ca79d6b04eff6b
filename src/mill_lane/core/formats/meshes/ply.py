"""PLY (Turk 1994): vertices and polygons with named properties, as text or binary."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.meshes.polygons import cut
from mill_lane.core.formats.meshes.soup import (
    COLOURED,
    Ints,
    checked,
    damaged,
    scene_of,
    smooth_normals,
    unit_rows,
)
from mill_lane.core.image.srgb import to_linear
from mill_lane.core.scene.model import F32, Geometry, Note, Scene

TYPES = {
    "char": "i1",
    "int8": "i1",
    "uchar": "u1",
    "uint8": "u1",
    "short": "i2",
    "int16": "i2",
    "ushort": "u2",
    "uint16": "u2",
    "int": "i4",
    "int32": "i4",
    "uint": "u4",
    "uint32": "u4",
    "float": "f4",
    "float32": "f4",
    "double": "f8",
    "float64": "f8",
}
ORDERS = {"ascii": "", "binary_little_endian": "<", "binary_big_endian": ">"}
MOST_ROWS = 2**31


@dataclass(frozen=True)
class Property:
    """One column; `count` is the type of a list's length, empty for a single number."""

    name: str
    kind: str
    count: str = ""


@dataclass(frozen=True)
class Element:
    """A table of the file: its rows, each with all of its properties."""

    name: str
    rows: int
    properties: tuple[Property, ...]

    @property
    def plain(self) -> bool:
        """Whether every row takes the same number of bytes."""
        return not any(p.count for p in self.properties)


def read_ply(path: Path) -> Scene:
    """The polygons of a PLY file, as triangles.  Raises MillError when it is cut short or
    damaged.
    """
    data = path.read_bytes()
    order, elements, at = _header(path.name, data)
    tables: dict[str, dict[str, Any]] = {}
    if order == "":
        text = _Text(path.name, data[at:])
        for element in elements:
            tables[element.name] = text.table(element)
    else:
        binary = _Binary(path.name, data, at, order)
        for element in elements:
            tables[element.name] = binary.table(element)
    return _scene(path, tables)


def _header(name: str, data: bytes) -> tuple[str, list[Element], int]:
    end = re.search(rb"\bend_header[ \t]*\r?\n", data[: 1 << 20])
    if not data.startswith(b"ply") or end is None:
        raise damaged(name, "it has no whole PLY header")
    order, elements = None, []
    for line in data[: end.start()].decode("ascii", "replace").splitlines():
        words = line.split()
        try:
            if words[:1] == ["format"]:
                order = ORDERS[words[1]]
            elif words[:1] == ["element"]:
                rows = int(words[2])
                if not 0 <= rows < MOST_ROWS:
                    raise ValueError(words[2])
                elements.append(Element(words[1], rows, ()))
            elif words[:1] == ["property"]:
                last = elements[-1]
                listed = words[1] == "list"
                new = Property(
                    words[4 if listed else 2],
                    TYPES[words[3 if listed else 1]],
                    TYPES[words[2]] if listed else "",
                )
                elements[-1] = Element(last.name, last.rows, (*last.properties, new))
        except (KeyError, ValueError, IndexError) as e:
            raise damaged(name, f"a line of its header cannot be read: “{line[:60]}”") from e
    if order is None:
        raise damaged(name, "its header does not say how it is written")
    return order, elements, end.end()


class _Binary:
    def __init__(self, name: str, data: bytes, at: int, order: str) -> None:
        self.name, self.data, self.at, self.order = name, data, at, order

    def table(self, e: Element) -> dict[str, Any]:
        if not e.properties:
            return {}
        if e.plain:
            row = np.dtype(
                [(f"{i} {p.name}", self.order + p.kind) for i, p in enumerate(e.properties)]
            )
            table = self._rows(row, e.rows)
            return {p.name: table[f"{i} {p.name}"] for i, p in enumerate(e.properties)}
        lists = [p for p in e.properties if p.count]
        alike = self._alike(e, lists)
        return alike if alike is not None else self._one_by_one(e)

    def _rows(self, row: np.dtype[Any], count: int) -> NDArray[Any]:
        if self.at + row.itemsize * count > len(self.data):
            raise damaged(self.name, f"it ends within its {count:,} rows")
        table = np.frombuffer(self.data, row, count, self.at)
        self.at += row.itemsize * count
        return table

    def _alike(self, e: Element, lists: list[Property]) -> dict[str, Any] | None:
        """The table at one go where every list is as long as in the first row; None where they are
        not.
        """
        if e.rows == 0:
            return {
                p.name: (np.zeros(0, np.int64), np.zeros(0)) if p.count else np.zeros(0)
                for p in e.properties
            }
        at, fields, lengths = self.at, [], {}
        for i, p in enumerate(e.properties):
            if p.count:
                size = np.dtype(self.order + p.count)
                if at + size.itemsize > len(self.data):
                    raise damaged(self.name, "it ends within its faces")
                n = int(np.frombuffer(self.data, size, 1, at)[0])
                if not 0 <= n <= len(self.data):
                    raise damaged(
                        self.name, "a face says it has a negative or impossible number of corners"
                    )
                lengths[p.name] = n
                fields += [(f"{i} n", self.order + p.count), (f"{i} v", self.order + p.kind, (n,))]
                at += size.itemsize + n * np.dtype(p.kind).itemsize
            else:
                fields.append((f"{i} v", self.order + p.kind))
                at += np.dtype(p.kind).itemsize
        row = np.dtype(fields)
        if self.at + row.itemsize * e.rows > len(self.data):
            return None
        table = np.frombuffer(self.data, row, e.rows, self.at)
        names = [(i, p) for i, p in enumerate(e.properties) if p.count]
        if any((table[f"{i} n"] != lengths[p.name]).any() for i, p in names):
            return None
        self.at += row.itemsize * e.rows
        out: dict[str, Any] = {}
        for i, p in enumerate(e.properties):
            values = table[f"{i} v"]
            out[p.name] = (
                (np.full(e.rows, lengths[p.name], np.int64), values.reshape(-1))
                if p.count
                else values
            )
        return out

    def _one_by_one(self, e: Element) -> dict[str, Any]:
        counts: dict[str, list[int]] = {p.name: [] for p in e.properties}
        values: dict[str, list[NDArray[Any]]] = {p.name: [] for p in e.properties}
        data, at = self.data, self.at
        kinds = [
            (p, np.dtype(self.order + p.kind), np.dtype(self.order + (p.count or "u1")))
            for p in e.properties
        ]
        for _ in range(e.rows):
            for p, kind, size in kinds:
                n = 1
                if p.count:
                    if at + size.itemsize > len(data):
                        raise damaged(self.name, "it ends within its faces")
                    n = int(np.frombuffer(data, size, 1, at)[0])
                    at += size.itemsize
                if n < 0 or at + n * kind.itemsize > len(data):
                    raise damaged(self.name, "it ends within its faces")
                counts[p.name].append(n)
                values[p.name].append(np.frombuffer(data, kind, n, at))
                at += n * kind.itemsize
        self.at = at
        return _table(
            e,
            {k: np.array(n, np.int64) for k, n in counts.items()},
            {k: np.concatenate(v) for k, v in values.items()},
        )


def _table(e: Element, counts: dict[str, Ints], values: dict[str, NDArray[Any]]) -> dict[str, Any]:
    """Columns by name: lists as (lengths, all numbers in a row), single numbers as they are."""
    return {
        p.name: (counts[p.name], values[p.name]) if p.count else values[p.name]
        for p in e.properties
    }


class _Text:
    def __init__(self, name: str, data: bytes) -> None:
        self.name = name
        self.lines = [x for x in data.splitlines() if x.strip()]
        self.at = 0

    def table(self, e: Element) -> dict[str, Any]:
        rows = self.lines[self.at : self.at + e.rows]
        if len(rows) < e.rows:
            raise damaged(self.name, f"it ends within its {e.rows:,} rows")
        self.at += e.rows
        try:
            if not e.properties:
                return {}
            if e.plain:
                table = np.array(
                    [x.split()[: len(e.properties)] for x in rows], np.float64
                ).reshape(e.rows, len(e.properties))
                return {p.name: table[:, i] for i, p in enumerate(e.properties)}
            return self._lists(e, rows)
        except (ValueError, IndexError, OverflowError) as e_:
            raise damaged(
                self.name, "a row is not made of the numbers that its header names"
            ) from e_

    def _lists(self, e: Element, rows: list[bytes]) -> dict[str, Any]:
        counts: dict[str, list[int]] = {p.name: [] for p in e.properties}
        values: dict[str, list[float]] = {p.name: [] for p in e.properties}
        for line in rows:
            words, at = line.split(), 0
            for p in e.properties:
                n = 1
                if p.count:
                    n = int(words[at])
                    at += 1
                if n < 0 or at + n > len(words):
                    raise ValueError(line)
                counts[p.name].append(n)
                values[p.name] += [float(x) for x in words[at : at + n]]
                at += n
        return _table(
            e,
            {k: np.array(n, np.int64) for k, n in counts.items()},
            {k: np.array(v) for k, v in values.items()},
        )


def _columns(table: dict[str, Any], *choices: tuple[str, ...]) -> NDArray[np.float64] | None:
    """The first of some groups of columns that is there, side by side."""
    for names in choices:
        if all(n in table and not isinstance(table[n], tuple) for n in names):
            return np.stack([np.asarray(table[n], np.float64) for n in names], 1)
    return None


def _scene(path: Path, tables: dict[str, dict[str, Any]]) -> Scene:
    vertices, faces = tables.get("vertex", {}), tables.get("face", {})
    positions = _columns(vertices, ("x", "y", "z"))
    corners = next(
        (faces[n] for n in ("vertex_indices", "vertex_index") if isinstance(faces.get(n), tuple)),
        None,
    )
    if positions is None or corners is None or len(positions) == 0:
        raise MillError(
            f"{path.name} holds no faces, only {', '.join(tables) or 'nothing'}: points alone are "
            "not drawn.",
            "Export a mesh with faces.",
            "Nothing was imported.",
        )
    counts, numbers = corners
    named = np.asarray(numbers, np.float64)
    if not np.isfinite(named).all():
        raise damaged(path.name, "a face names a vertex that is no number")
    whole: Ints = named.astype(np.int64)
    checked(path.name, positions, whole.reshape(-1, 1))
    triangles: Ints = whole[cut(counts, positions[whole])]
    notes: list[Note] = []
    normals = _columns(vertices, ("nx", "ny", "nz"))
    if normals is None or not np.isfinite(normals).all():
        smooth = smooth_normals(positions, triangles)
        notes.append(
            Note(
                "normals_made",
                "look",
                "The file has no normals: they were made smooth over the whole surface.",
            )
        )
    else:
        smooth = unit_rows(normals)
    uvs = _columns(vertices, ("s", "t"), ("u", "v"), ("texture_u", "texture_v"))
    if uvs is not None:
        uvs = np.stack([uvs[:, 0], 1.0 - uvs[:, 1]], 1)  # V runs up in PLY, down in a picture
    colors = _colours(vertices)
    used = np.unique(triangles)
    if 0 < len(used) < len(positions):  # what no face names would only widen the box
        new = np.full(len(positions), -1, np.int64)
        new[used] = np.arange(len(used))
        positions, smooth, triangles = positions[used], smooth[used], new[triangles]
        uvs = uvs[used] if uvs is not None else None
        colors = colors[used] if colors is not None else None
    geometry = Geometry(
        np.ascontiguousarray(positions, np.float32),
        smooth,
        None if uvs is None else np.ascontiguousarray(uvs, np.float32),
        np.ascontiguousarray(triangles, np.uint32),
        colors=colors,
    )
    number, worn = (-1, []) if colors is None else (0, [COLOURED])
    parts = [(path.stem, [(number, geometry)])] if len(triangles) else []
    return scene_of(path.stem, parts, worn, notes=notes)


def _colours(vertices: dict[str, Any]) -> F32 | None:
    """Colours of the vertices with alpha, linear, (V, 4): of 8 or 16 bits, or numbers to 1."""
    found = _columns(vertices, ("red", "green", "blue"), ("r", "g", "b"))
    if found is None:
        return None
    kind = next(np.asarray(vertices[n]).dtype for n in ("red", "r") if n in vertices)
    most = float(np.nan_to_num(found).max(initial=0.0))
    # Text has no types: what goes beyond 1 are codes of 8 bits, or of 16.
    top = float(np.iinfo(kind).max) if kind.kind in "ui" else 1.0
    if kind.kind not in "ui" and most > 1.0:
        top = 255.0 if most <= 255 else 65535.0
    alpha = _columns(vertices, ("alpha",))
    opaque = np.ones((len(found), 1)) if alpha is None else alpha / top
    codes = np.clip(np.nan_to_num(found / top), 0.0, 1.0)
    both = np.concatenate([to_linear(codes), np.clip(np.nan_to_num(opaque), 0.0, 1.0)], 1)
    return np.ascontiguousarray(both, np.float32)
