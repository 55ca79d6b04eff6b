"""Textures as the renderer holds them:

a mip chain of the stored channels and bits, read bilinearly.

All 8-bit chains lie in one array, all 16-bit chains in another; `slots.T_` names the columns of the
table.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.srgb import to_linear
from mill_lane.core.render.jit import inner, kernel, linked
from mill_lane.core.render.mip_chain import levels
from mill_lane.core.render.pointers import f32_at, i64_at, u8_at, u16_at
from mill_lane.core.render.slots import (
    Q_TOUCHES,
    T_CHANNELS,
    T_FIRST_LEVEL,
    T_LEVELS,
    T_WIDE,
    T_WRAP_U,
    T_WRAP_V,
    W_DECODE,
    W_LEVELS,
    W_NARROW,
    W_TEXTURES,
    W_WIDE,
)

WRAP_CODES = {"repeat": 0, "mirror": 1, "clamp": 2}


class Textures(NamedTuple):
    """T textures; `decode` is the sRGB curve of an 8-bit code as linear light, float32 (256,)."""

    table: NDArray[np.int64]  # (T, 8)
    levels: NDArray[np.int64]  # (L, 3) of all chains: where a level begins, its width, its height
    narrow: NDArray[np.uint8]
    wide: NDArray[np.uint16]
    decode: NDArray[np.float32]


DECODE = to_linear(np.arange(256) / 255).astype(np.float32)
# Linear light in 4096 steps back to an 8-bit code; fine enough that a flat colour stays what it was
# down the chain.
ENCODE = np.clip(
    np.searchsorted(to_linear((np.arange(256) + 0.5) / 255), np.arange(16385) / 16384), 0, 255
).astype(np.uint8)


@kernel
def _halve(source: Any, target: Any, srgb: bool, decode: Any, encode: Any) -> None:
    """One level of the chain:

    a box of 2x2, averaged in linear light where the values are sRGB codes.

    Rows are walked flat, a channel at a time, with unsigned indices: twice as fast as the plain
    triple loop.
    """
    height, width, channels = source.shape
    across = np.uint64(channels if width > 1 else 0)
    down = 1 if height > 1 else 0
    rows = source.reshape(height, width * channels)
    out = target.reshape(target.shape[0], target.shape[1] * channels)
    for y in range(target.shape[0]):
        upper, lower, row = rows[2 * y * down], rows[2 * y * down + down], out[y]
        for c in range(np.uint64(channels)):
            i, o = c, c
            if srgb and c < 3:
                for _ in range(target.shape[1]):
                    mean = (
                        decode[upper[i]]
                        + decode[upper[i + across]]
                        + decode[lower[i]]
                        + decode[lower[i + across]]
                    )
                    row[o] = encode[np.uint32(mean * np.float32(4096) + np.float32(0.5))]
                    i, o = i + np.uint64(2 * channels), o + np.uint64(channels)
            else:
                for _ in range(target.shape[1]):
                    total = np.uint32(upper[i]) + np.uint32(upper[i + across]) + np.uint32(lower[i])
                    row[o] = (total + np.uint32(lower[i + across]) + np.uint32(2)) >> np.uint32(2)
                    i, o = i + np.uint64(2 * channels), o + np.uint64(channels)


def fill_chain(out: NDArray[Any], pixels: NDArray[Any], srgb: bool) -> None:
    """Write a picture (height, width, channels) and its smaller levels into the flat `out`, the
    small ones first.
    """
    source, end = pixels, len(out)
    for i, (w, h) in enumerate(levels(pixels.shape[1], pixels.shape[0])):
        n = w * h * pixels.shape[2]
        target = out[end - n : end].reshape(h, w, pixels.shape[2])
        if i == 0:
            target[:] = pixels
        else:
            _halve(source, target, srgb and pixels.dtype == np.uint8, DECODE, ENCODE)
        source, end = target, end - n


def halve(pixels: NDArray[Any], srgb: bool) -> NDArray[Any]:
    """The next smaller level of a picture (height, width, channels), as the mip chain has it."""
    h, w, channels = pixels.shape
    target = np.empty((max(1, h // 2), max(1, w // 2), channels), pixels.dtype)
    _halve(np.ascontiguousarray(pixels), target, srgb and pixels.dtype == np.uint8, DECODE, ENCODE)
    return target


def texture_table(
    rows: list[tuple[int, int, int, int, int, int, int]],
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The tables of textures given as (wide, offset, width, height, channels, wrap u, wrap v):

    (T, 8) and (L, 3).
    """
    table = np.zeros((max(len(rows), 1), 8), np.int64)
    chain: list[tuple[int, int, int]] = []
    for i, (wide, start, width, height, channels, wrap_u, wrap_v) in enumerate(rows):
        sizes = levels(width, height)
        table[i] = (wide, len(chain), width, height, channels, wrap_u, wrap_v, len(sizes))
        end = start + channels * sum(w * h for w, h in sizes)  # small levels come first
        for w, h in sizes:
            end -= w * h * channels
            chain.append((end, w, h))
    return table, np.array(chain or [(0, 1, 1)], np.int64)


@inner
def _wrap(i: int, n: int, mode: int) -> Any:
    if mode == 0:
        if n & (n - 1) == 0:
            return i & (n - 1)  # of a power of two, also below 0
        i = i % n
        return i + n if i < 0 else i
    if mode == 1:
        i = i % (2 * n)
        i = i + 2 * n if i < 0 else i
        return 2 * n - 1 - i if i >= n else i
    return min(max(i, 0), n - 1)


@inner
def _wide_value(x: float, srgb: bool) -> Any:
    x /= 65535.0
    if srgb:  # IEC 61966-2-1
        return x / 12.92 if x <= 0.04045 else ((x + 0.055) / 1.055) ** 2.4
    return x


@linked
def lookup(w: Any, q: Any, index: int, u: float, v: float, level: float, srgb: bool) -> Any:
    """Red, green, blue, alpha of a texture at (u, v), bilinear on mip level floor(`level`);
    grey is spread, alpha is 1 if none.

    Who wants a mean over two levels adds a number in [0, 1) to the level.

    The read is counted on the path's scratch `q`.
    """
    q[Q_TOUCHES] += 1.0
    row = i64_at(w[W_TEXTURES] + 64 * index)
    chain = i64_at(w[W_LEVELS])
    k = min(np.int64(level), row[T_LEVELS] - 1) if level > 0.0 else np.int64(0)
    at = 3 * (row[T_FIRST_LEVEL] + k)
    start, width, height = chain[at], chain[at + 1], chain[at + 2]
    channels = row[T_CHANNELS]
    if not (abs(u) < 1e6 and abs(v) < 1e6):
        u, v = 0.0, 0.0
    x, y = u * width - 0.5, v * height - 0.5
    ix, iy = np.int64(math.floor(x)), np.int64(math.floor(y))
    fx, fy = x - ix, y - iy
    mode_u, mode_v = row[T_WRAP_U], row[T_WRAP_V]
    x0, x1 = _wrap(ix, width, mode_u) * channels, _wrap(ix + 1, width, mode_u) * channels
    y0, y1 = (
        _wrap(iy, height, mode_v) * width * channels,
        _wrap(iy + 1, height, mode_v) * width * channels,
    )
    p00, p10, p01, p11 = start + y0 + x0, start + y0 + x1, start + y1 + x0, start + y1 + x1
    w00, w10, w01, w11 = (1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy
    colours = np.int64(3) if channels >= 3 else np.int64(1)
    r, g, b, a = 0.0, 0.0, 0.0, 1.0
    if row[T_WIDE]:
        wide = u16_at(w[W_WIDE])
        for c in range(colours):
            value = (
                w00 * _wide_value(np.float64(wide[p00 + c]), srgb)
                + w10 * _wide_value(np.float64(wide[p10 + c]), srgb)
                + w01 * _wide_value(np.float64(wide[p01 + c]), srgb)
                + w11 * _wide_value(np.float64(wide[p11 + c]), srgb)
            )
            if c == 0:
                r = value
            elif c == 1:
                g = value
            else:
                b = value
        if channels == colours + 1:
            c = colours
            a = (
                w00 * wide[p00 + c]
                + w10 * wide[p10 + c]
                + w01 * wide[p01 + c]
                + w11 * wide[p11 + c]
            ) / 65535.0
    else:
        narrow, decode = u8_at(w[W_NARROW]), f32_at(w[W_DECODE])
        for c in range(colours):
            i, j, k_, l_ = narrow[p00 + c], narrow[p10 + c], narrow[p01 + c], narrow[p11 + c]
            if srgb:
                value = w00 * decode[i] + w10 * decode[j] + w01 * decode[k_] + w11 * decode[l_]
            else:
                value = (w00 * i + w10 * j + w01 * k_ + w11 * l_) / 255.0
            if c == 0:
                r = value
            elif c == 1:
                g = value
            else:
                b = value
        if channels == colours + 1:
            c = colours
            a = (
                w00 * narrow[p00 + c]
                + w10 * narrow[p10 + c]
                + w01 * narrow[p01 + c]
                + w11 * narrow[p11 + c]
            ) / 255.0
    if colours == 1:
        g, b = r, r
    return r, g, b, a
