"""UDIM: one texture in tiles, each a picture over one unit of UV.

The tile of column c and row r is numbered 1001 + c + 10 r; columns run from 0 to 9 with U, rows up
with V.  A scene knows no such sets: what wears one is cut at the borders of its tiles, and each
piece wears the picture of its tile, so that each tile is weighed and trimmed as the texture it is.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.textures import missing_image
from mill_lane.core.scene.model import F32, Image, Mesh, Note, Part, Scene, Texture, TextureUse
from mill_lane.core.scene.parts import part_of, subset
from mill_lane.core.scene.unused import SLOTS

FIRST, COLUMNS = 1001, 10
MARK = re.compile(r"<UDIM>", re.IGNORECASE)
NUMBERED = re.compile(r"(?<=[._-])1001(?=\.\w+$)")
MOST_TILES = 1000


def tiles_beside(path: Path) -> dict[int, Path]:
    """The files of a set by tile, where a file name has the mark or is one's first tile."""
    mark = MARK.search(path.name) or NUMBERED.search(path.name)
    if mark is None or not path.parent.is_dir():
        return {}
    before, after = path.name[: mark.start()], path.name[mark.end() :]
    shape = re.compile(re.escape(before) + r"(\d{4})" + re.escape(after))
    found: dict[int, Path] = {}
    for file in path.parent.iterdir():
        match = shape.fullmatch(file.name)
        if match and FIRST <= int(match[1]) < FIRST + MOST_TILES and file.is_file():
            found[int(match[1])] = file
    if not MARK.search(path.name) and len(found) < 2:
        return {}
    return dict(sorted(found.items()))


def set_of(path: Path, make: Callable[[Path], Image]) -> Image | None:
    """The first picture of a set with all others in hand; None where the name means no set."""
    tiles = {number: make(file) for number, file in tiles_beside(path).items()}
    if not tiles:
        return None
    return replace(tiles.get(FIRST) or next(iter(tiles.values())), tiles=tiles)


def tile_numbers(uvs: F32, triangles: NDArray[np.uint32], use: TextureUse) -> NDArray[np.int64]:
    """The tile that each triangle lies on, by its middle, (T,); V of `uvs` runs down."""
    middle = uvs[triangles].astype(np.float64).mean(1)
    c, s = math.cos(use.rotation), math.sin(use.rotation)
    x, y = middle[:, 0] * use.scale[0], middle[:, 1] * use.scale[1]
    u, v = x * c + y * s + use.offset[0], y * c - x * s + use.offset[1]
    column, row = np.floor(u).astype(np.int64), np.floor(1.0 - v).astype(np.int64)
    inside = (column >= 0) & (column < COLUMNS) & (row >= 0) & (row < MOST_TILES // COLUMNS)
    return np.where(inside, FIRST + column + COLUMNS * row, FIRST)


def expanded(scene: Scene) -> Scene:
    """The scene with every set of tiles taken apart; itself where there is none."""
    named = {i.name for i in scene.images}
    whole = {
        k
        for k, image in enumerate(scene.images)
        # Whoever names the other tiles as well means a picture each.
        if image.tiles and not {t.name for t in image.tiles.values()} - {image.name} & named
    }
    if not whole:
        return scene
    apart = _Apart(scene, whole)
    meshes = tuple(map(apart.mesh, scene.meshes))
    images = tuple(replace(i, tiles={}) for i in apart.images)
    return replace(
        scene,
        meshes=meshes,
        materials=tuple(apart.materials),
        textures=tuple(apart.textures),
        images=images,
        notes=(*scene.notes, *apart.notes),
    )


@dataclass
class _Apart:
    """Materials, textures and pictures as they grow by the tiles that are met."""

    scene: Scene
    whole: set[int]
    notes: list[Note] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.materials = list(self.scene.materials)
        self.textures = list(self.scene.textures)
        self.images = list(self.scene.images)
        self._made: dict[tuple[int, int], int] = {}
        self._worn: dict[tuple[int, int], int] = {}

    def mesh(self, mesh: Mesh) -> Mesh:
        parts = tuple(piece for part in mesh.parts for piece in self._pieces(part))
        if parts == mesh.parts:
            return mesh
        # What is cut at the borders of tiles is triangles, no longer a surface.
        return replace(mesh, parts=parts, subdivision=None)

    def _pieces(self, part: Part) -> list[Part]:
        use = self._set_use(part.material)
        if use is None or part.load_at is not None:
            return [part]
        g = part.load()
        uvs = g.second_uvs if use.uv_set else g.uvs
        if uvs is None:
            return [part]
        tile = tile_numbers(uvs, g.triangles, use)
        return [
            part_of(subset(g, g.triangles[tile == n]), self._material(part.material, int(n)))
            for n in np.unique(tile)
        ]

    def _set_use(self, number: int) -> TextureUse | None:
        """The first use of a set in a material."""
        uses = self.scene.materials[number].uses() if number >= 0 else []
        return next(
            (u for _, u in uses if self.scene.textures[u.texture].image in self.whole), None
        )

    def _material(self, number: int, tile: int) -> int:
        key = (number, tile)
        if key not in self._worn:
            m = self.scene.materials[number]
            changes: dict[str, TextureUse] = {}
            for slot in SLOTS:
                use = getattr(m, slot)
                if use is not None and self.scene.textures[use.texture].image in self.whole:
                    changes[slot] = replace(use, texture=self._texture(use.texture, tile))
            made = replace(m, name=f"{m.name} {tile}", **changes)  # type: ignore[arg-type]
            if any(n == number for n, _ in self._worn):
                self._worn[key] = len(self.materials)
                self.materials.append(replace(made, source=-1))
            else:  # the first tile takes the place of the material that wore the set
                self._worn[key] = number
                self.materials[number] = made
        return self._worn[key]

    def _texture(self, number: int, tile: int) -> int:
        key = (number, tile)
        if key not in self._made:
            old = self.scene.textures[number]
            image = self.scene.images[old.image].tiles.get(tile)
            if image is None:
                stem = Path(self.scene.images[old.image].name).stem
                image = missing_image(f"{stem}, tile {tile}", self.notes)
            self._made[key] = len(self.textures)
            name = f"{old.name} {tile}"
            self.textures.append(Texture(name, len(self.images), old.wrap_u, old.wrap_v))
            self.images.append(image)
        return self._made[key]
