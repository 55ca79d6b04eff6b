"""OBJ: vertices and polygons as text, materials in MTL files beside it.

The file is gone through three times: to count, for vertices, and for faces.  So every array is made
once, in its size, and a large file takes little more than what it ends up as.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.meshes.closed import solid_glass
from mill_lane.core.formats.meshes.mtl import Library
from mill_lane.core.formats.meshes.obj_text import Scan, walk
from mill_lane.core.formats.meshes.polygons import LARGEST_EARS, ears
from mill_lane.core.formats.meshes.soup import COLOURED, checked, damaged, no_vertex, scene_of
from mill_lane.core.formats.sought import sought
from mill_lane.core.formats.udim import expanded
from mill_lane.core.image.srgb import to_linear
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.scene.model import F32, Geometry, Note, Scene
from mill_lane.core.scene.unused import without_unused

LEFT_OUT = {b"l": "lines", b"p": "points", b"curv": "curves", b"surf": "surfaces"}
ROOM = 1.25  # vertices that are made for each that is listed, before there has to be more room
Key = tuple[str, str, bool]  # object, material, whether it is smooth


@dataclass
class _Words:
    """What the lines say that are neither vertices nor faces; groups as they come."""

    stem: str
    name: str = ""
    material: str = ""
    smooth: bool = False
    group: int = 0
    groups: dict[Key, int] = field(default_factory=dict)
    libraries: list[str] = field(default_factory=list)
    left_out: dict[str, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.name = self.stem
        self._enter()

    def _enter(self) -> None:
        key = (self.name, self.material, self.smooth)
        self.group = self.groups.setdefault(key, len(self.groups))

    def take(self, line: bytes) -> None:
        """Look at a line."""
        word, _, rest = line.replace(b"\t", b" ").partition(b" ")
        said = rest.strip().decode("utf-8", "replace")
        if word in (b"o", b"g"):
            self.name = said or self.stem
        elif word == b"usemtl":
            self.material = said
        elif word == b"s":
            self.smooth = said not in ("off", "0", "")
        elif word == b"mtllib":
            self.libraries.append(said)
        elif word in LEFT_OUT:
            self.left_out[LEFT_OUT[word]] = self.left_out.get(LEFT_OUT[word], 0) + 1
        self._enter()


def read_obj(path: Path, progress: Progress = silent) -> Scene:
    """The objects of an OBJ file with the materials of its libraries.

    Curves, lines and points are left out.  Raises MillError when it is damaged or names files
    outside its folder.
    """
    words, made = _Reader(path).read(part(progress, 0.0, 0.95))
    notes = [
        Note("not_drawn", "lost", f"{n:,} {what} are not drawn.")
        for what, n in words.left_out.items()
    ]
    library = Library(path.parent, notes)
    for text in words.libraries:
        _read_library(library, path, text, notes)
    objects: dict[str, list[tuple[int, Geometry]]] = {}
    spare = -1
    for (name, material, _), number in words.groups.items():
        geometry = made.get(number)
        if geometry is None:
            continue
        worn = library.number(material) if material else -1
        if worn < 0 and geometry.colors is not None:
            spare = library.add(COLOURED) if spare < 0 else spare
            worn = spare
        objects.setdefault(name, []).append((worn, geometry))
    every = (pair for pairs in objects.values() for pair in pairs)
    made_of = (solid_glass(library.materials, every), library.images, library.textures)
    return without_unused(expanded(scene_of(path.stem, list(objects.items()), *made_of, notes)))


def _read_library(library: Library, path: Path, text: str, notes: list[Note]) -> None:
    # A name may hold spaces, and a line may name several files.
    for name in (text, *text.split()):
        found = sought(path.parent, name)
        if found.path.is_file():
            notes += found.told(name)
            library.read(found.path)
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


class _Reader:
    """The three passes over one file, and the arrays in between."""

    def __init__(self, path: Path) -> None:
        from mill_lane.core.formats.meshes import obj_finish, obj_scan

        self.s, self.finish = obj_scan, obj_finish
        self.path = path
        self.per_group = np.zeros((16, obj_scan.GROUP), np.int64)
        self.comes_back = False
        self.totals = np.zeros(obj_scan.STATE, np.int64)
        # Of each vertex made: vertex, place, normal, the next in its bucket, group; see `faces`.
        self.records = tuple(np.empty(0, np.int32) for _ in range(5))
        self.made = np.empty((0, 3), np.float32)

    def read(self, progress: Progress) -> tuple[_Words, dict[int, Geometry]]:
        """What the lines say, and the geometry of every group that has a triangle."""
        words = self._count(part(progress, 0.0, 0.2))
        self._numbers(part(progress, 0.2, 0.6))
        self._faces(part(progress, 0.6, 1.0))
        return words, self._geometries()

    def _walk(self, scan: Scan, at: NDArray[np.int64], words: _Words, progress: Progress) -> None:
        def checked_scan(buf: NDArray[np.uint8], begin: int) -> int:
            reached = scan(buf, begin)
            if at[self.s.STATUS]:
                raise self._wrong(int(at[self.s.STATUS]))
            return reached

        walk(self.path, checked_scan, words.take, progress)

    def _wrong(self, status: int) -> Exception:
        s, name = self.s, self.path.name
        if status == s.OUT_V:
            return no_vertex(name, int(self.totals[s.V]))
        said = {
            s.BAD_VERTEX: "a vertex is not made of numbers",
            s.BAD_FACE: "a face is not made of whole numbers",
            s.NO_VERTEX: "a corner of a face names no vertex",
            s.OUT_VT: "a face names a place on the texture that is not there",
            s.OUT_VN: "a face names a normal that is not there",
        }
        return damaged(name, said[status])

    def _count(self, progress: Progress) -> _Words:
        s, at, words = self.s, self.totals, _Words(self.path.stem)
        last, met = -1, 0

        def scan(buf: NDArray[np.uint8], begin: int) -> int:
            nonlocal last, met
            if words.group >= len(self.per_group):
                self.per_group = np.concatenate([self.per_group, np.zeros_like(self.per_group)])
            before = at[s.FACES]
            reached = int(s.count(buf, begin, at, self.per_group, words.group))
            if at[s.FACES] > before and words.group != last:
                self.comes_back |= words.group < last
                last = words.group
            return reached

        self._walk(scan, at, words, progress)
        self.smooth = {number: key[2] for key, number in words.groups.items()}
        return words

    def _numbers(self, progress: Progress) -> None:
        s, t = self.s, self.totals
        self.positions = np.empty((t[s.V], 3), np.float32)
        self.colours = np.empty((t[s.V] if t[s.COLOURED] else 0, 3), np.float32)
        self.places = np.empty((t[s.VT], 2), np.float32)
        self.normals = np.empty((t[s.VN], 3), np.float32)
        at = np.zeros(s.STATE, np.int64)
        tables = (self.positions, self.colours, self.places, self.normals)
        self._walk(
            lambda buf, begin: int(s.numbers(buf, begin, at, *tables)),
            at,
            _Words(self.path.stem),
            progress,
        )
        checked(self.path.name, self.positions, np.zeros((0, 3), np.int64))

    def _faces(self, progress: Progress) -> None:
        s, t, groups = self.s, self.totals, self.per_group
        groups[:, s.TRIANGLE_AT] = np.cumsum(groups[:, s.TRIANGLES]) - groups[:, s.TRIANGLES]
        groups[:, s.RECORD_AT] = -1
        by_normal = groups[:, s.WITH_VN] == groups[:, s.CORNERS]
        corners = int(groups[:, s.CORNERS].sum())
        self.made_normals = not by_normal.all()
        listed = int(max(t[s.V], t[s.VT], t[s.VN]) * ROOM) + 1024 + int(t[s.MOST_CORNERS])
        self._make_room(listed if not self.made_normals else corners + int(t[s.MOST_CORNERS]))
        heads = np.full(1 << max(4, int(t[s.V]).bit_length() - 1), s.NONE, np.int32)
        self.triangles = np.empty((int(groups[:, s.TRIANGLES].sum()), 3), np.int32)
        self.concave = np.empty((t[s.LARGE], 2), np.int64)
        named = np.empty((3, max(int(t[s.MOST_CORNERS]), 1)), np.int64)
        at, words = np.zeros(s.STATE, np.int64), _Words(self.path.stem)

        def scan(buf: NDArray[np.uint8], begin: int) -> int:
            g = words.group
            how = s.BY_NORMAL if by_normal[g] else s.SMOOTH if words.smooth else s.FLAT
            while True:
                into = (heads, self.records, self.made, self.triangles, self.concave, named)
                begin = int(s.faces(buf, begin, at, groups, g, how, t, self.positions, into))
                if at[s.STATUS] != s.FULL:
                    return begin
                at[s.STATUS] = s.FINE
                self._make_room(int(len(self.records[0]) * 1.5) + int(t[s.MOST_CORNERS]))

        self._walk(scan, at, words, progress)
        self.count = int(at[s.RECORDS])
        self._cut_ears(self.concave[: at[s.LARGE]])
        self.records = (*self.records[:3], np.empty(0, np.int32), self.records[4])

    def _make_room(self, size: int) -> None:
        """Room for so many vertices; what is there stays."""
        there = (True, self.totals[self.s.VT] > 0, True, True, self.comes_back)
        made = [np.empty(size if there else 0, np.int32) for there in there]
        normals = np.empty((size if self.made_normals else 0, 3), np.float32)
        for new, old in zip(made, self.records, strict=True):
            new[: len(old)] = old
        normals[: len(self.made)] = self.made
        self.records, self.made = tuple(made), normals

    def _cut_ears(self, concave: NDArray[np.int64]) -> None:
        """Fill polygons anew that a fan would have run out of."""
        for first, n in concave:
            if n <= LARGEST_EARS:
                fan = self.triangles[first : first + n - 2]
                at = np.concatenate([fan[:1, 0], fan[:, 1], fan[-1:, 2]])
                found = ears(self.positions[self.records[0][at]].astype(np.float64))
                if found is not None:
                    fan[:] = at[found]

    def _geometries(self) -> dict[int, Geometry]:
        """One geometry for each group with a triangle; arrays are let go of as they are used up."""
        s, groups, n = self.s, self.per_group, self.count
        vertices, laid, shaded = (r[:n] for r in self.records[:3])
        begin = groups[:, s.RECORD_AT]
        full = np.flatnonzero(groups[:, s.TRIANGLES] > 0)
        if not len(full):
            return {}
        if self.comes_back:
            owner = self.records[4][:n]
            order = np.argsort(owner, kind="stable").astype(np.int32)
            rank = np.empty(n, np.int32)
            rank[order] = np.arange(n, dtype=np.int32)
            self.triangles = rank[self.triangles]
            vertices, shaded = vertices[order], shaded[order]
            laid = laid[order] if len(laid) else laid
            self.made = self.made[order] if len(self.made) else self.made
            ends = np.searchsorted(owner[order], full, side="right")
            begin[full] = np.searchsorted(owner[order], full)
        else:
            ends = np.append(begin[full][1:], n)
        positions = self._picked(self.positions, vertices)
        self.positions = self.positions[:0].copy()
        tints = None
        if len(self.colours):
            tints = np.ones((n, 4), np.float32)
            tints[:, :3] = to_linear(np.clip(np.nan_to_num(self.colours[vertices]), 0.0, 1.0))
        normals = self._all_normals(full, ends, vertices, shaded)
        uvs = np.empty((n if len(self.places) else 0, 2), np.float32)
        if len(self.places):
            self.finish.lay(self.places, laid, uvs)
        out = {}
        for g, end in zip(full, ends, strict=True):
            v = slice(begin[g], end)
            last = groups[g, s.TRIANGLE_AT]
            t = self.triangles[last - groups[g, s.TRIANGLES] : last]
            t -= np.int32(begin[g])
            out[int(g)] = Geometry(
                positions[v],
                normals[v],
                uvs[v] if groups[g, s.WITH_VT] else None,
                t.view(np.uint32),
                colors=None if tints is None else tints[v],
            )
        return out

    def _picked(self, table: F32, rows: NDArray[np.int32]) -> F32:
        """Rows of a table; the table itself where they stand in it in that order."""
        return table[: len(rows)] if self.finish.counts_up(rows) else table[rows]

    def _all_normals(
        self,
        full: NDArray[np.int64],
        ends: NDArray[np.int64],
        vertices: NDArray[np.int32],
        shaded: NDArray[np.int32],
    ) -> F32:
        """A normal for every vertex: its own, or one made of the faces that meet there."""
        s, groups = self.s, self.per_group
        if not self.made_normals:
            normals = self._picked(self.normals, shaded)
        else:
            normals = self.made[: self.count]
            first = np.full(int(self.totals[s.V]), s.NONE, np.int32)
            for g, end in zip(full, ends, strict=True):
                v = slice(groups[g, s.RECORD_AT], end)
                if groups[g, s.WITH_VN] == groups[g, s.CORNERS]:
                    normals[v] = self.normals[shaded[v]]
                elif self.smooth[int(g)]:
                    self.finish.share_normals(vertices[v], normals[v], first)
        self.normals = self.normals[:0].copy()
        self.finish.to_unit(normals)
        return normals
