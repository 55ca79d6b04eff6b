"""OBJ: vertices and polygons as text, materials in MTL files beside it."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.blob import inside
from mill_lane.core.formats.meshes.mtl import Library
from mill_lane.core.formats.meshes.soup import (
    Ints,
    checked,
    damaged,
    face_normals,
    fans,
    scene_of,
    unit_rows,
)
from mill_lane.core.scene.model import F32, Geometry, Note, Scene

NONE = -1  # a corner without a place on the texture, or without a normal


@dataclass
class _Group:
    """Faces that share object and material: corners of every polygon, and how many each has."""

    name: str
    material: str
    smooth: bool
    lines: list[bytes] = field(default_factory=list)
    before: list[tuple[int, int, int]] = field(
        default_factory=list
    )  # vertices, places, normals read so far


def read_obj(path: Path) -> Scene:
    """The objects of an OBJ file with the materials of its libraries.

    Curves, lines and points are left out.  Raises MillError when it is damaged or names files
    outside its folder.
    """
    kinds: dict[bytes, list[bytes]] = {b"v": [], b"vt": [], b"vn": []}
    groups: dict[tuple[str, str, bool], _Group] = {}
    name, material, smooth = path.stem, "", False
    libraries: list[str] = []
    left_out: dict[str, int] = {}
    v, vt, vn = kinds[b"v"], kinds[b"vt"], kinds[b"vn"]
    group: _Group | None = None
    for line in path.read_bytes().replace(b"\\\r\n", b" ").replace(b"\\\n", b" ").splitlines():
        word, _, rest = line.strip().partition(b" ")
        if word in kinds:
            kinds[word].append(rest)
        elif word == b"f":
            if group is None:
                group = groups.setdefault((name, material, smooth), _Group(name, material, smooth))
            group.lines.append(rest)
            group.before.append((len(v), len(vt), len(vn)))
        elif word in (b"o", b"g"):
            name, group = rest.strip().decode("utf-8", "replace") or path.stem, None
        elif word == b"usemtl":
            material, group = rest.strip().decode("utf-8", "replace"), None
        elif word == b"s":
            smooth, group = rest.strip() not in (b"off", b"0", b""), None
        elif word == b"mtllib":
            libraries.append(rest.strip().decode("utf-8", "replace"))
        elif word and not word.startswith(b"#"):
            what = {b"l": "lines", b"p": "points", b"curv": "curves", b"surf": "surfaces"}.get(word)
            if what:
                left_out[what] = left_out.get(what, 0) + 1
    notes = [
        Note("not_drawn", "lost", f"{n:,} {what} are not drawn.") for what, n in left_out.items()
    ]
    library = Library(path.parent, notes)
    for text in libraries:
        _read_library(library, path, text, notes)
    positions = _numbers(path.name, v, 3, 3)
    places = _numbers(path.name, vt, 2, 1)
    normals = _numbers(path.name, vn, 3, 3)
    objects: dict[str, list[tuple[int, Geometry]]] = {}
    for g in groups.values():
        number = library.number(g.material) if g.material else -1
        objects.setdefault(g.name, []).append(
            (number, _geometry(path.name, g, positions, places, normals))
        )
    return scene_of(
        path.stem, list(objects.items()), library.materials, library.images, library.textures, notes
    )


def _read_library(library: Library, path: Path, text: str, notes: list[Note]) -> None:
    # A name may hold spaces, and a line may name several files.
    for name in (text, *text.split()):
        file = inside(path.parent, name.replace("\\", "/"))
        if file.is_file():
            library.read(file)
            if name == text:
                return
    if not library.found:
        notes.append(
            Note(
                "material_file_missing",
                "lost",
                f"The material file “{text}” is missing: everything is drawn in plain grey.",
            )
        )


def _numbers(name: str, rows: list[bytes], wanted: int, least: int) -> NDArray[np.float64]:
    """Rows of numbers, (N, wanted); what is missing at a row's end is 0, what is too much is left
    out.
    """
    if not rows:
        return np.zeros((0, wanted))
    counts = {len(r.split()) for r in rows[:1]}
    try:
        n = counts.pop()
        if n >= wanted:
            table = np.array(b" ".join(rows).split(), np.float64)
            if len(table) == n * len(rows):
                return np.ascontiguousarray(table.reshape(-1, n)[:, :wanted])
        out = np.zeros((len(rows), wanted))
        for i, r in enumerate(rows):
            words = r.split()[:wanted]
            if len(words) < least:
                raise ValueError(r)
            out[i, : len(words)] = [float(x) for x in words]
        return out
    except (ValueError, OverflowError) as e:
        raise damaged(name, "a vertex is not made of numbers") from e


def _corners(name: str, g: _Group) -> tuple[Ints, Ints]:
    """Every corner as (vertex, place, normal), counted from 0, -1 for none:

    (C, 3), and the corners of each face.
    """
    words = [line.split(b"#")[0].split() for line in g.lines]
    counts = np.array([len(w) for w in words], np.int64)
    flat = [w for row in words for w in row]
    try:
        slashes = flat[0].count(b"/") if flat else 0
        if flat and slashes < 3 and all(w.count(b"/") == slashes and b"//" not in w for w in flat):
            numbers = np.array(b"/".join(flat).split(b"/"), np.int64).reshape(
                len(flat), slashes + 1
            )
        else:
            numbers = np.zeros((len(flat), 3), np.int64)
            for i, w in enumerate(flat):
                pieces = [int(x) if x else 0 for x in w.split(b"/")]
                numbers[i, : min(len(pieces), 3)] = pieces[:3]
    except (ValueError, OverflowError) as e:
        raise damaged(name, "a face is not made of whole numbers") from e
    out = np.zeros((len(flat), 3), np.int64)
    out[:, : numbers.shape[1]] = numbers
    if (out[:, 0] == 0).any():
        raise damaged(name, "a corner of a face names no vertex")
    # From 1 on they count from the start of the file, below 0 back from the line they stand in.
    before = np.repeat(np.array(g.before, np.int64).reshape(-1, 3), counts, 0)
    return np.where(out > 0, out - 1, np.where(out < 0, before + out, NONE)), counts


def _geometry(
    name: str,
    g: _Group,
    positions: NDArray[np.float64],
    places: NDArray[np.float64],
    normals: NDArray[np.float64],
) -> Geometry:
    corners, counts = _corners(name, g)
    triangles = fans(counts)
    for column, table, what in ((1, places, "place on the texture"), (2, normals, "normal")):
        if len(corners) and (
            corners[:, column].max() >= len(table) or corners[:, column].min() < NONE
        ):
            raise damaged(name, f"a face names a {what} that is not there")
    checked(name, positions, corners[:, :1][triangles.reshape(-1)].reshape(-1, 3))
    if len(triangles) == 0:
        return Geometry(
            np.zeros((0, 3), np.float32),
            np.zeros((0, 3), np.float32),
            None,
            np.zeros((0, 3), np.uint32),
        )
    has_uvs, has_normals = bool((corners[:, 1] != NONE).any()), bool((corners[:, 2] != NONE).all())
    uvs = np.zeros((len(corners), 2))
    if has_uvs:
        known = corners[:, 1] != NONE
        uvs[known] = places[corners[known, 1]]
        uvs[:, 1] = 1.0 - uvs[:, 1]  # V runs up in OBJ, down in a picture
        uvs[~np.isfinite(uvs)] = 0.0
    key, faced = corners, None
    if not has_normals:
        faced = _made_normals(g, positions, corners, triangles, counts)
        # Without normals of its own a face is flat: its corners are shared with no other.
        own = corners[:, 0] if g.smooth else np.repeat(np.arange(len(counts)), counts)
        key = np.stack([corners[:, 0], corners[:, 1], own], 1)
    first, inverse = _alike(key)
    kept = corners[first]
    shading = unit_rows(normals[kept[:, 2]]) if faced is None else faced[first]
    return Geometry(
        np.ascontiguousarray(positions[kept[:, 0]], np.float32),
        shading,
        np.ascontiguousarray(uvs[first], np.float32) if has_uvs else None,
        np.ascontiguousarray(inverse[triangles], np.uint32),
    )


def _made_normals(
    g: _Group, positions: NDArray[np.float64], corners: Ints, triangles: Ints, counts: Ints
) -> F32:
    """A normal for every corner:

    of its whole polygon, or of all faces at the vertex where they are to look smooth.
    """
    flat = face_normals(positions, corners[:, 0][triangles])
    owner = np.repeat(np.arange(len(counts)), np.maximum(counts - 2, 0))
    whole = np.stack([np.bincount(owner, flat[:, k], len(counts)) for k in range(3)], 1)
    if not g.smooth:
        return unit_rows(np.asarray(np.repeat(whole, counts, 0), np.float64))
    spread = np.repeat(whole, counts, 0)
    total = np.stack(
        [np.bincount(corners[:, 0], spread[:, k], len(positions)) for k in range(3)], 1
    )
    return unit_rows(np.asarray(total[corners[:, 0]], np.float64))


def _alike(key: Ints) -> tuple[Ints, Ints]:
    """The first row of each kind of row, and the kind of every row."""
    spans = key.max(0) - key.min(0) + 1 if len(key) else np.ones(3, np.int64)
    if float(spans[0]) * float(spans[1]) * float(spans[2]) < 2**62:
        k = key - key.min(0)
        _, first, inverse = np.unique(
            (k[:, 0] * spans[1] + k[:, 1]) * spans[2] + k[:, 2],
            return_index=True,
            return_inverse=True,
        )
    else:
        _, first, inverse = np.unique(key, axis=0, return_index=True, return_inverse=True)
    return first, inverse.reshape(-1)
