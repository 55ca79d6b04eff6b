"""OBJ: vertices and polygons as text, materials in MTL files beside it."""

from __future__ import annotations

import math
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
    no_vertex,
    scene_of,
    unit_rows,
)
from mill_lane.core.scene.model import Geometry, Note, Scene

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
    checked(path.name, positions, np.zeros((0, 3), np.int64))
    objects: dict[str, list[tuple[int, Geometry]]] = {}
    whole = list(groups.values())
    made = _geometries(path.name, whole, positions, places, normals)
    for g, geometry in zip(whole, made, strict=True):
        number = library.number(g.material) if g.material else -1
        objects.setdefault(g.name, []).append((number, geometry))
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


def _corners(name: str, groups: list[_Group]) -> tuple[Ints, Ints]:
    """Every corner as (vertex, place, normal), counted from 0, -1 for none:

    (C, 3), and the corners of each face; group after group.
    """
    words = [line.split(b"#")[0].split() for g in groups for line in g.lines]
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
    lines = [x for g in groups for x in g.before]
    before = np.repeat(np.array(lines, np.int64).reshape(-1, 3), counts, 0)
    return np.where(out > 0, out - 1, np.where(out < 0, before + out, NONE)), counts


@dataclass
class _Faces:
    """All faces of a file, group after group.

    Attributes
    ----------
    corners : array of int64, (C, 3)
        Vertex, place and normal of each corner, -1 for none.
    counts : array of int64, (F,)
        Corners of each face.
    triangles : array of int64, (T, 3)
        Corners.
    group, of_corner, of_triangle : array of int64
        The group of each face, corner and triangle.
    has_uvs, has_normals, smooth : array of bool, (G,)
    """

    corners: Ints
    counts: Ints
    triangles: Ints
    group: Ints
    of_corner: Ints
    of_triangle: Ints
    has_uvs: NDArray[np.bool_]
    has_normals: NDArray[np.bool_]
    smooth: NDArray[np.bool_]


def _faces(name: str, groups: list[_Group]) -> _Faces:
    corners, counts = _corners(name, groups)
    group = np.repeat(np.arange(len(groups)), [len(g.lines) for g in groups])
    of_corner = np.repeat(group, counts)
    each = np.bincount(of_corner, minlength=len(groups))

    def having(column: int) -> Ints:
        return np.bincount(of_corner, corners[:, column] != NONE, len(groups)).astype(np.int64)

    return _Faces(
        corners,
        counts,
        fans(counts),
        group,
        of_corner,
        np.repeat(group, np.maximum(counts - 2, 0)),
        having(1) > 0,
        having(2) == each,
        np.array([g.smooth for g in groups], bool),
    )


def _geometries(
    name: str,
    groups: list[_Group],
    positions: NDArray[np.float64],
    places: NDArray[np.float64],
    normals: NDArray[np.float64],
) -> list[Geometry]:
    """The geometry of every group, made of all faces at once: there may be many small groups."""
    f = _faces(name, groups)
    for column, table, what in ((1, places, "place on the texture"), (2, normals, "normal")):
        if len(f.corners) and (
            f.corners[:, column].max() >= len(table) or f.corners[:, column].min() < NONE
        ):
            raise damaged(name, f"a face names a {what} that is not there")
    named = f.corners[:, 0][f.triangles]
    if len(named) and (named.min() < 0 or named.max() >= len(positions)):
        raise no_vertex(name, len(positions))
    uvs = np.zeros((len(f.corners), 2))
    known = f.corners[:, 1] != NONE
    uvs[known] = places[f.corners[known, 1]]
    uvs[:, 1] = 1.0 - uvs[:, 1]  # V runs up in OBJ, down in a picture
    uvs[~np.isfinite(uvs)] = 0.0
    shaded = f.has_normals[f.of_corner]
    # Without normals of its own a face is flat: its corners are shared with no other.
    face = np.repeat(np.arange(len(f.counts)), f.counts)
    third = np.where(f.smooth[f.of_corner], f.corners[:, 0], face)
    third = np.where(shaded, f.corners[:, 2], third)
    first, inverse = _alike(np.stack([f.of_corner, f.corners[:, 0], f.corners[:, 1], third], 1))
    kept = f.corners[first]
    made = _made_normals(f, positions)[first]
    own = shaded[first]
    made[own] = normals[kept[own, 2]]
    # Corners of faces with too few of them may name nothing.
    places_of = np.clip(kept[:, 0], 0, max(len(positions) - 1, 0))
    points = np.ascontiguousarray(positions[places_of], np.float32)
    shading, on_texture = unit_rows(made), np.ascontiguousarray(uvs[first], np.float32)
    vertex_at = np.searchsorted(f.of_corner[first], np.arange(len(groups) + 1))
    triangle_at = np.searchsorted(f.of_triangle, np.arange(len(groups) + 1))
    triangles = (inverse[f.triangles] - vertex_at[f.of_triangle][:, None]).astype(np.uint32)
    out = []
    for i in range(len(groups)):
        v, t = slice(*vertex_at[i : i + 2]), slice(*triangle_at[i : i + 2])
        out.append(
            Geometry(points[v], shading[v], on_texture[v] if f.has_uvs[i] else None, triangles[t])
        )
    return out


def _made_normals(f: _Faces, positions: NDArray[np.float64]) -> NDArray[np.float64]:
    """A normal for every corner, of any length:

    of its whole polygon, or of all faces of its group at the vertex where they are to look smooth.
    """
    corners = np.zeros((len(f.corners), 3))
    if f.has_normals.all():
        return corners
    flat = face_normals(positions, f.corners[:, 0][f.triangles])
    owner = np.repeat(np.arange(len(f.counts)), np.maximum(f.counts - 2, 0))
    whole = np.stack([np.bincount(owner, flat[:, k], len(f.counts)) for k in range(3)], 1)
    corners = np.asarray(np.repeat(whole, f.counts, 0), np.float64)
    soft = np.flatnonzero(f.smooth[f.of_corner] & ~f.has_normals[f.of_corner])
    if soft.size:
        key = np.stack([f.of_corner[soft], f.corners[soft, 0]], 1)
        first, own = _alike(key)
        total = [np.bincount(own, corners[soft, k], len(first)) for k in range(3)]
        corners[soft] = np.stack(total, 1)[own]
    return corners


def _alike(key: Ints) -> tuple[Ints, Ints]:
    """The first row of each kind of row, in the order of the rows, and the kind of every row.

    key : (N, K).
    """
    if not len(key):
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    low = key.min(0)
    spans = [int(x) for x in key.max(0) - low + 1]
    if math.prod(spans) < 2**62:
        one = np.zeros(len(key), np.int64)
        for k, span in enumerate(spans):
            one = one * span + (key[:, k] - low[k])
        _, first, inverse = np.unique(one, return_index=True, return_inverse=True)
    else:
        _, first, inverse = np.unique(key, axis=0, return_index=True, return_inverse=True)
    return first, inverse.reshape(-1)
