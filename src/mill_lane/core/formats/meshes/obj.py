"""OBJ: vertices and polygons as text, materials in MTL files beside it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import groupby
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.blob import inside
from mill_lane.core.formats.meshes.mtl import Library
from mill_lane.core.formats.meshes.obj_text import NONE, Polygons, Vertices, blocks, word_of
from mill_lane.core.formats.meshes.polygons import cut
from mill_lane.core.formats.meshes.soup import (
    COLOURED,
    Ints,
    checked,
    damaged,
    face_normals,
    no_vertex,
    scene_of,
    unit_rows,
)
from mill_lane.core.formats.udim import expanded
from mill_lane.core.image.srgb import to_linear
from mill_lane.core.progress import Progress, of_megabytes, silent
from mill_lane.core.scene.model import Geometry, Note, Scene
from mill_lane.core.scene.unused import without_unused

AT_ONCE = 300_000  # corners that are worked on together
LEFT_OUT = {b"l": "lines", b"p": "points", b"curv": "curves", b"surf": "surfaces"}


@dataclass
class _Group:
    """Faces that share object and material."""

    name: str
    material: str
    smooth: bool
    number: int


def read_obj(path: Path, progress: Progress = silent) -> Scene:
    """The objects of an OBJ file with the materials of its libraries, read block by block.

    Curves, lines and points are left out.  Raises MillError when it is damaged or names files
    outside its folder.
    """
    tables = {
        b"v": Vertices(path.name, 6, 3),
        b"vt": Vertices(path.name, 2, 1),
        b"vn": Vertices(path.name, 3, 3),
    }
    v, vt, vn = tables.values()
    polygons = Polygons(path.name)
    groups: dict[tuple[str, str, bool], _Group] = {}
    name, material, smooth = path.stem, "", False
    libraries: list[str] = []
    left_out: dict[str, int] = {}
    size, done = max(path.stat().st_size, 1), 0
    for lines in blocks(path):
        for word, run in groupby(lines, key=word_of):
            rows = [line.strip().partition(b" ")[2] for line in run]
            if word in tables:
                tables[word].add(rows)
            elif word == b"f":
                key = (name, material, smooth)
                if key not in groups:
                    groups[key] = _Group(*key, len(groups))
                polygons.add(rows, (v.count, vt.count, vn.count), groups[key].number)
            elif word in (b"o", b"g"):
                name = rows[-1].strip().decode("utf-8", "replace") or path.stem
            elif word == b"usemtl":
                material = rows[-1].strip().decode("utf-8", "replace")
            elif word == b"s":
                smooth = rows[-1].strip() not in (b"off", b"0", b"")
            elif word == b"mtllib":
                libraries += [r.strip().decode("utf-8", "replace") for r in rows]
            elif word in LEFT_OUT:
                left_out[LEFT_OUT[word]] = left_out.get(LEFT_OUT[word], 0) + len(rows)
        done += sum(map(len, lines)) + len(lines)
        progress(min(done / size, 1.0) * 0.7, f"reading {of_megabytes(done, size)}")
    notes = [
        Note("not_drawn", "lost", f"{n:,} {what} are not drawn.") for what, n in left_out.items()
    ]
    library = Library(path.parent, notes)
    for text in libraries:
        _read_library(library, path, text, notes)
    points = v.table()
    positions = np.ascontiguousarray(points[:, :3])
    colors = points[:, 3:6] if points.shape[1] >= 6 else None
    checked(path.name, positions, np.zeros((0, 3), np.int64))
    whole = list(groups.values())
    made = _geometries(
        path.name, whole, polygons.table(), positions, vt.table()[:, :2], vn.table(), colors
    )
    objects: dict[str, list[tuple[int, Geometry]]] = {}
    spare = -1
    for g, geometry in zip(whole, made, strict=True):
        number = library.number(g.material) if g.material else -1
        if number < 0 and geometry.colors is not None:
            spare = library.add(COLOURED) if spare < 0 else spare
            number = spare
        objects.setdefault(g.name, []).append((number, geometry))
    made_of = (library.materials, library.images, library.textures)
    return without_unused(expanded(scene_of(path.stem, list(objects.items()), *made_of, notes)))


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


def _faces(
    name: str,
    groups: list[_Group],
    table: tuple[Ints, Ints, Ints],
    positions: NDArray[np.float64],
) -> _Faces:
    corners, counts, group = table
    named = corners[:, 0]
    if len(named) and (named.min() < 0 or named.max() >= len(positions)):
        raise no_vertex(name, len(positions))
    of_corner = np.repeat(group, counts)
    each = np.bincount(of_corner, minlength=len(groups))

    def having(column: int) -> Ints:
        return np.bincount(of_corner, corners[:, column] != NONE, len(groups)).astype(np.int64)

    return _Faces(
        corners,
        counts,
        cut(counts, positions[named]),
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
    table: tuple[Ints, Ints, Ints],
    positions: NDArray[np.float64],
    places: NDArray[np.float64],
    normals: NDArray[np.float64],
    colors: NDArray[np.float64] | None,
) -> list[Geometry]:
    """The geometry of every group: of many small groups at once, of large ones one by one."""
    corners, counts, owner = table
    each = np.bincount(owner, counts, len(groups)).astype(np.int64)
    corner_at = np.concatenate([[0], np.cumsum(each)])
    face_at = np.searchsorted(owner, np.arange(len(groups) + 1))
    out: list[Geometry] = []
    first = 0
    while first < len(groups):
        last = int(np.searchsorted(corner_at, corner_at[first] + AT_ONCE, side="right")) - 1
        last = min(max(last, first + 1), len(groups))
        faces = slice(face_at[first], face_at[last])
        part = (
            corners[corner_at[first] : corner_at[last]].astype(np.int64),
            counts[faces].astype(np.int64),
            owner[faces].astype(np.int64) - first,
        )
        out += _of_groups(name, groups[first:last], part, positions, places, normals, colors)
        first = last
    return out


def _of_groups(
    name: str,
    groups: list[_Group],
    table: tuple[Ints, Ints, Ints],
    positions: NDArray[np.float64],
    places: NDArray[np.float64],
    normals: NDArray[np.float64],
    colors: NDArray[np.float64] | None,
) -> list[Geometry]:
    """The geometry of some groups, made of all their faces at once."""
    f = _faces(name, groups, table, positions)
    for column, known_rows, what in ((1, places, "place on the texture"), (2, normals, "normal")):
        if len(f.corners) and (
            f.corners[:, column].max() >= len(known_rows) or f.corners[:, column].min() < NONE
        ):
            raise damaged(name, f"a face names a {what} that is not there")
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
    tints = None
    if colors is not None:
        tints = np.ones((len(points), 4), np.float32)
        tints[:, :3] = to_linear(np.clip(np.nan_to_num(colors[places_of]), 0.0, 1.0))
    shading, on_texture = unit_rows(made), np.ascontiguousarray(uvs[first], np.float32)
    vertex_at = np.searchsorted(f.of_corner[first], np.arange(len(groups) + 1))
    triangle_at = np.searchsorted(f.of_triangle, np.arange(len(groups) + 1))
    triangles = (inverse[f.triangles] - vertex_at[f.of_triangle][:, None]).astype(np.uint32)
    out = []
    for i in range(len(groups)):
        v, t = slice(*vertex_at[i : i + 2]), slice(*triangle_at[i : i + 2])
        out.append(
            Geometry(
                points[v],
                shading[v],
                on_texture[v] if f.has_uvs[i] else None,
                triangles[t],
                colors=None if tints is None else tints[v],
            )
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
