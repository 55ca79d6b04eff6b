"""Pictures decoded into the mip chains that kernels read, or fetched from where they are kept."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import decode
from mill_lane.core.progress import Progress, of_megabytes
from mill_lane.core.render.in_order import in_order
from mill_lane.core.render.mip_chain import chain_values
from mill_lane.core.render.sizes import loading_order, srgb_images
from mill_lane.core.render.texture import DECODE, WRAP_CODES, Textures, fill_chain, texture_table
from mill_lane.core.render.texture_cache import (
    PAGE,
    Chain,
    Patchwork,
    TextureCache,
    digest_of,
)
from mill_lane.core.scene.model import Image, Scene, Texture

GREY = 188  # sRGB code of a mid grey, for textures that are missing


@dataclass(frozen=True)
class _Row:
    """Where the chain of an image begins, in numbers of the array that holds it."""

    image: int
    wide: bool
    at: int
    size: int  # numbers

    @property
    def bytes(self) -> int:
        return self.size * (2 if self.wide else 1)


def texture_bytes(scene: Scene) -> int:
    """Bytes of all chains of a scene."""
    return sum(n for _, n in loading_order(scene))


def load_textures(
    scene: Scene, threads: int, progress: Progress, cache: TextureCache | None = None
) -> tuple[Textures, dict[int, int]]:
    """Decode the pictures of a scene, or fetch what is kept of them.

    Parameters
    ----------
    scene : Scene
    threads : int
    progress : callable
    cache : TextureCache, optional

    Returns
    -------
    textures : Textures
    index : dict
        Which row of the table each texture of the scene has.

    Raises
    ------
    MillError
        When a picture is damaged.
    """
    order, colours = loading_order(scene), srgb_images(scene)
    rows = _rows(scene, [t for t, _ in order], PAGE if cache is not None else 1)
    narrow, wide = _arrays(list(rows.values()), cache is not None)

    def fill(row: _Row, data: bytes | None, out: NDArray[Any]) -> None:
        image = scene.images[row.image]
        if data is None:
            out[:] = GREY
            return
        pixels = decode(data, image.mime, image.name)
        if pixels.shape != (image.height, image.width, image.channels) or pixels.dtype != out.dtype:
            raise MillError(
                f"The texture “{image.name}” does not hold what its header says.",
                "Save it again and export the scene.",
            )
        fill_chain(out, pixels, row.image in colours)

    every = list(rows.values())

    def read(i: int) -> None:
        row, image = every[i], scene.images[every[i].image]
        data = None if image.missing else image.read()
        place = wide if row.wide else narrow
        if cache is None or data is None or not isinstance(place, Patchwork):
            if isinstance(place, Patchwork):
                place.own(row.at * (2 if row.wide else 1), row.bytes)
            fill(row, data, _numbers(place, row.wide)[row.at : row.at + row.size])
            return
        kind = np.uint16 if row.wide else np.uint8
        chain = _chain(image, row, digest_of(data), row.image in colours)
        cache.place(
            place,
            row.at * (2 if row.wide else 1),
            chain,
            lambda out: fill(row, data, out.view(kind)),
        )

    done, total = 0, max(sum(r.bytes for r in every), 1)

    def tell() -> None:
        progress(done / total, f"loading textures: {of_megabytes(done, total)}")

    for i, _ in enumerate(in_order(read, len(every), threads, tell)):
        done += every[i].bytes
        tell()
    if cache is not None:
        cache.sweep()
    entries = [_entry(scene, scene.textures[t], rows) for t, _ in order]
    table, chain_table = texture_table(entries)
    textures = Textures(table, chain_table, _numbers(narrow, False), _numbers(wide, True), DECODE)
    return textures, {t: i for i, (t, _) in enumerate(order)}


def _rows(scene: Scene, textures: list[int], grain: int) -> dict[int, _Row]:
    """Where each image's chain stands, by image; each begins at a whole number of grains, bytes."""
    rows: dict[int, _Row] = {}
    at = {False: 0, True: 0}
    for t in textures:
        number = scene.textures[t].image
        if number in rows:
            continue
        image = scene.images[number]
        wide = image.bits > 8
        step = max(1, grain // (2 if wide else 1))
        begin = -(-at[wide] // step) * step
        size = chain_values(image.width, image.height, image.channels)
        rows[number] = _Row(number, wide, begin, size)
        at[wide] = begin + size
    return rows


Place = NDArray[Any] | Patchwork


def _arrays(rows: list[_Row], mapped: bool) -> tuple[Place, Place]:
    """Room for all chains of 8 bits, and for those of 16: arrays, or space to map files into."""
    out: list[Place] = []
    for wide, kind in ((False, np.uint8), (True, np.uint16)):
        end = max((r.at + r.size for r in rows if r.wide == wide), default=0)
        if mapped and end:
            try:
                out.append(Patchwork(end * (2 if wide else 1)))
                continue
            except (OSError, AttributeError):  # no such thing on this system
                pass
        out.append(np.empty(end, kind))
    return out[0], out[1]


def _numbers(place: Place, wide: bool) -> NDArray[Any]:
    """The place as the array that kernels read."""
    if isinstance(place, Patchwork):
        return place.array().view(np.uint16 if wide else np.uint8)
    return place


def _chain(image: Image, row: _Row, digest: str, colour: bool) -> Chain:
    return Chain(digest, image.width, image.height, image.channels, row.wide, colour, row.bytes)


def _entry(
    scene: Scene, texture: Texture, rows: dict[int, _Row]
) -> tuple[int, int, int, int, int, int, int]:
    """A row of `texture_table`."""
    image, row = scene.images[texture.image], rows[texture.image]
    return (
        int(row.wide),
        row.at,
        image.width,
        image.height,
        image.channels,
        WRAP_CODES[texture.wrap_u],
        WRAP_CODES[texture.wrap_v],
    )
