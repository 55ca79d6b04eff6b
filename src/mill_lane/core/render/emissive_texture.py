"""Emissive meshes whose emission is a picture: how bright each part of each triangle is.

A triangle is cut into n x n cells of two halves in its barycentric coordinates, about as fine as
the picture; points on the light are then chosen by how bright the halves are (importance sampling
of a piecewise constant function; Pharr, Jakob, Humphreys, Physically Based Rendering, 4th ed.,
A.4).
One glowing diode on a large board is aimed at as itself, not as the board.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.srgb import LUMA, to_linear
from mill_lane.core.render import slots as s
from mill_lane.core.render.jit import kernel
from mill_lane.core.render.sizes import brightness_size
from mill_lane.core.render.texture import Textures

F64 = NDArray[np.float64]
F32 = NDArray[np.float32]
AT_ONCE = 50_000  # halves that are worked out together
FINEST = 64  # cells along a triangle's edge, at most
MOST_HALVES = 60_000  # of one mesh: its tables take a few megabytes
NEAR = (
    0.25  # of a half's weight comes from the brightest texel around it, so that no edge is missed
)
# Places of a half at which the map is read, as shares of its own edges.
PLACES = ((1 / 3, 1 / 3), (0.1, 0.1), (0.8, 0.1), (0.1, 0.8))


@dataclass(frozen=True, eq=False)
class Patches:
    """What T triangles give off.

    ranges : int64 (T, 2), the first half of a triangle and its cells along an edge.
    halves : float64 (H, 2), running share within the triangle, and density over the mesh's area.
    share : float64 (T,), of the mesh's light.  mean : its mean luminance over the area.
    box : float64 (2, 3), round what shines.
    """

    ranges: NDArray[np.int64]
    halves: F64
    share: F64
    mean: float
    box: F64


@kernel
def _brightness(out: Any, pixels: Any, weights: Any, decode: Any) -> None:
    """Mean luminance of blocks of texels; `decode` gives linear light of a code."""
    height, width, channels = pixels.shape
    rows, columns = out.shape
    for y in range(rows):
        y0, y1 = y * height // rows, max((y + 1) * height // rows, y * height // rows + 1)
        for x in range(columns):
            x0, x1 = x * width // columns, max((x + 1) * width // columns, x * width // columns + 1)
            total = 0.0
            for j in range(y0, y1):
                for i in range(x0, x1):
                    for c in range(3):
                        total += weights[c] * decode[pixels[j, i, c if channels > 2 else 0]]
            out[y, x] = total / ((y1 - y0) * (x1 - x0))


def brightness_map(textures: Textures, index: int, factors: F64) -> F32:
    """The mean luminance of what a texture gives off, by block of texels.

    Parameters
    ----------
    textures : Textures
    index : int
        Row of the texture table.
    factors : array of float64, (3,)
        Emissive factors by which red, green and blue are multiplied.

    Returns
    -------
    array of float32, (H, W)
        At most `sizes.SIDE` on either side; means are taken in linear light, without rounding.
    """
    row = textures.table[index]
    start, width, height = (int(x) for x in textures.levels[row[s.T_FIRST_LEVEL]])
    channels = int(row[s.T_CHANNELS])
    source: NDArray[Any] = textures.wide if row[s.T_WIDE] else textures.narrow
    pixels = source[start : start + width * height * channels].reshape(height, width, channels)
    decode = to_linear(np.arange(65536) / 65535) if row[s.T_WIDE] else textures.decode.astype(float)
    out = np.empty(brightness_size(width, height), np.float32)
    _brightness(out, pixels, np.array(LUMA) * factors, decode)
    return out


def cut(
    bright: F32, uvs: F64, corners: F64, area: F64, transform: F64, wraps: tuple[int, int]
) -> Patches | None:
    """Cut the triangles of an emissive mesh by how bright the picture is on them.

    Parameters
    ----------
    bright : array of float32, (H, W)
        From `brightness_map`.
    uvs : array of float64, (T, 3, 2)
    corners : array of float64, (T, 3, 3)
        In the world, metres.
    area : array of float64, (T,)
        Square metres.
    transform : array of float64, (6,) or more
        Rows of the UV transform.
    wraps : tuple of int
        Codes of `texture.WRAP_CODES`, along U and V.

    Returns
    -------
    Patches or None
        None where the picture is black on all of them.
    """
    placed = np.stack(
        [
            uvs[..., 0] * transform[0] + uvs[..., 1] * transform[1] + transform[2],
            uvs[..., 0] * transform[3] + uvs[..., 1] * transform[4] + transform[5],
        ],
        -1,
    )
    placed = np.where(np.abs(placed) < 1e6, placed, 0.0)
    height, width = bright.shape
    edges = (placed[:, 1:] - placed[:, :1]) * (width, height)
    # Texels along the longer edge: so many cells, as far as there is room for them.
    texels = np.maximum(np.linalg.norm(edges, axis=2).max(1), 1.0)
    cells = np.clip(np.ceil(texels), 1, FINEST)
    room = MOST_HALVES / max(float((2 * cells**2).sum()), 1.0)
    if room < 1:
        cells = np.maximum(np.floor(cells * math.sqrt(room)), 1.0)
    level = np.floor(np.log2(np.maximum(texels / cells, 1.0))).astype(int)
    n = cells.astype(np.int64)
    first = np.concatenate([[0], np.cumsum(2 * n * n)])
    weight, around = np.zeros(int(first[-1])), np.zeros(int(first[-1]))
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    chain = _smaller(bright, int(level.max()))
    for size, k in sorted({(int(a), int(b)) for a, b in zip(n, level, strict=True)}):
        which = np.flatnonzero((n == size) & (level == k))
        base, exists = _halves(size)
        picture, wide = chain[k]
        for part in np.array_split(which, 1 + len(which) * 2 * size * size // AT_ONCE):
            found = np.zeros((len(part), 2 * size * size))
            for place in PLACES:
                at = _inside(base, size, place)  # (halves, 2)
                found += _read(picture, _at(placed[part], at), wraps) / len(PLACES)
            near = _read(wide, _at(placed[part], _inside(base, size, PLACES[0])), wraps)
            found, near = found * exists, near * exists
            rows = first[part][:, None] + np.arange(2 * size * size)
            weight[rows], around[rows] = found, near
            lit_triangle, lit_half = np.nonzero(near > 0)
            for place in ((0.0, 0.0), (1.0, 0.0), (0.0, 1.0)):
                u, v = _inside(base[lit_half], size, place).T[..., None]
                c = corners[part[lit_triangle]]
                p = c[:, 0] + u * (c[:, 1] - c[:, 0]) + v * (c[:, 2] - c[:, 0])
                low = np.minimum(low, p.min(0, initial=np.inf))
                high = np.maximum(high, p.max(0, initial=-np.inf))
    owner = np.repeat(np.arange(len(n)), 2 * n * n)
    each = area[owner] / (n[owner] ** 2)  # square metres of a half: a triangle has n x n
    light = weight * each
    chosen = ((1 - NEAR) * weight + NEAR * around) * each
    total = chosen.sum()
    if not total > 0:
        return None
    by_triangle = np.bincount(owner, chosen, len(n))
    running = np.cumsum(chosen)
    before = np.concatenate([[0.0], running])[first[:-1]]
    inside = (running - before[owner]) / np.where(by_triangle > 0, by_triangle, 1.0)[owner]
    density = chosen / total / np.maximum(each, 1e-300)
    return Patches(
        ranges=np.stack([first[:-1], n], 1).astype(np.int64),
        halves=np.stack([inside, density], 1),
        share=by_triangle / total,
        mean=float(light.sum() / area.sum()),
        box=np.stack([low, high]),
    )


def _halves(n: int) -> tuple[F64, F64]:
    """The halves of n x n cells: (2 n n, 3) column, row and whether it is the upper one; which of
    them lie in the triangle.
    """
    row, column, upper = (x.reshape(-1) for x in np.mgrid[0:n, 0:n, 0:2])
    return np.stack([column, row, upper], 1).astype(float), (column + row + upper < n).astype(float)


def _inside(base: F64, n: int, place: tuple[float, float]) -> F64:
    """Barycentric coordinates (halves, 2) of a place within each half."""
    x = np.where(base[:, 2] > 0, 1 - place[0], place[0])
    y = np.where(base[:, 2] > 0, 1 - place[1], place[1])
    return np.stack([(base[:, 0] + x) / n, (base[:, 1] + y) / n], 1)


def _at(placed: F64, at: F64) -> F64:
    """UV (triangles, halves, 2) of barycentric coordinates."""
    e1, e2 = placed[:, 1] - placed[:, 0], placed[:, 2] - placed[:, 0]
    return np.asarray(placed[:, None, 0] + at[:, :1] * e1[:, None] + at[:, 1:] * e2[:, None])


def _smaller(bright: F32, most: int) -> list[tuple[F32, F32]]:
    """The map and its halved ones, each with the largest value round each texel."""
    out = []
    for k in range(most + 1):
        if k:
            h, w = bright.shape
            even = np.pad(bright, ((0, h % 2), (0, w % 2)), "edge")
            total = even[::2, ::2] + even[1::2, ::2] + even[::2, 1::2] + even[1::2, 1::2]
            bright = np.asarray(total / 4, np.float32)
        wide = bright
        for axis in (0, 1):  # the largest of nine is that of three, twice
            ahead, behind = np.roll(wide, 1, axis), np.roll(wide, -1, axis)
            wide = np.maximum(np.maximum(wide, ahead, out=ahead), behind, out=ahead)
        out.append((bright, wide))
    return out


def _read(picture: F32, uv: F64, wraps: tuple[int, int]) -> F64:
    """The texel at each UV."""
    height, width = picture.shape
    x = _wrapped(np.floor(uv[..., 0] * width).astype(np.int64), width, wraps[0])
    y = _wrapped(np.floor(uv[..., 1] * height).astype(np.int64), height, wraps[1])
    return np.asarray(picture[y, x])


def _wrapped(i: NDArray[np.int64], n: int, mode: int) -> NDArray[np.int64]:
    if mode == 0:
        return i % n
    if mode == 1:
        i = i % (2 * n)
        return np.where(i >= n, 2 * n - 1 - i, i)
    return np.clip(i, 0, n - 1)
