"""Textures as the renderer holds them: a mip chain of the stored channels and bits, read bilinearly.

All 8-bit chains lie in one array, all 16-bit chains in another.  A row of the table is
(wide, offset, width, height, channels, wrap u, wrap v, levels), `wide` being 1 for 16 bits.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.srgb import to_linear
from mill_lane.core.render.jit import kernel, lean
from mill_lane.core.render.sizes import levels

WRAP_CODES = {"repeat": 0, "mirror": 1, "clamp": 2}


class Textures(NamedTuple):
    """T textures; `decode` is the sRGB curve of an 8-bit code as linear light, float32 (256,)."""

    table: NDArray[np.int64]  # (T, 8)
    narrow: NDArray[np.uint8]
    wide: NDArray[np.uint16]
    decode: NDArray[np.float32]


DECODE = to_linear(np.arange(256) / 255).astype(np.float32)
# Linear light in 4096 steps back to an 8-bit code; fine enough that a flat colour stays what it was down the chain.
ENCODE = np.clip(np.searchsorted(to_linear((np.arange(256) + 0.5) / 255), np.arange(16385) / 16384), 0, 255).astype(np.uint8)


@kernel
def _halve(source: Any, target: Any, srgb: bool, decode: Any, encode: Any) -> None:
    """One level of the chain: a box of 2x2, averaged in linear light where the values are sRGB codes.

    Rows are walked flat, a channel at a time, with unsigned indices: twice as fast as the plain triple loop.
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
                    mean = decode[upper[i]] + decode[upper[i + across]] + decode[lower[i]] + decode[lower[i + across]]
                    row[o] = encode[np.uint32(mean * np.float32(4096) + np.float32(0.5))]
                    i, o = i + np.uint64(2 * channels), o + np.uint64(channels)
            else:
                for _ in range(target.shape[1]):
                    total = np.uint32(upper[i]) + np.uint32(upper[i + across]) + np.uint32(lower[i])
                    row[o] = (total + np.uint32(lower[i + across]) + np.uint32(2)) >> np.uint32(2)
                    i, o = i + np.uint64(2 * channels), o + np.uint64(channels)


def fill_chain(out: NDArray[Any], pixels: NDArray[Any], srgb: bool) -> None:
    """Write a picture (height, width, channels) and its smaller levels one after another into the flat `out`."""
    at, source = 0, pixels
    for i, (w, h) in enumerate(levels(pixels.shape[1], pixels.shape[0])):
        n = w * h * pixels.shape[2]
        target = out[at : at + n].reshape(h, w, pixels.shape[2])
        if i == 0:
            target[:] = pixels
        else:
            _halve(source, target, srgb and pixels.dtype == np.uint8, DECODE, ENCODE)
        source, at = target, at + n


def halve(pixels: NDArray[Any], srgb: bool) -> NDArray[Any]:
    """The next smaller level of a picture (height, width, channels), as the mip chain has it."""
    h, w, channels = pixels.shape
    target = np.empty((max(1, h // 2), max(1, w // 2), channels), pixels.dtype)
    _halve(np.ascontiguousarray(pixels), target, srgb and pixels.dtype == np.uint8, DECODE, ENCODE)
    return target


@lean
def _wrap(i: int, n: int, mode: int) -> Any:
    if mode == 0:
        return i % n
    if mode == 1:
        i = i % (2 * n)
        return 2 * n - 1 - i if i >= n else i
    return min(max(i, 0), n - 1)


@lean
def _value(textures: Any, wide: int, at: int, srgb: bool) -> Any:
    if wide:
        x = textures.wide[at] / 65535.0
        if srgb:  # IEC 61966-2-1
            return x / 12.92 if x <= 0.04045 else ((x + 0.055) / 1.055) ** 2.4
        return x
    code = textures.narrow[at]
    return np.float64(textures.decode[code]) if srgb else code / 255.0


@lean
def lookup(textures: Any, index: int, u: float, v: float, level: float, srgb: bool) -> Any:
    """Red, green, blue, alpha of a texture at (u, v) on the nearest mip level; grey is spread, alpha is 1 if none."""
    row = textures.table[index]
    wide, at, w, h, channels = row[0], row[1], row[2], row[3], row[4]
    k = min(max(int(level + 0.5), 0), row[7] - 1) if level > 0 else 0
    for _ in range(k):
        at += w * h * channels
        w, h = max(1, w // 2), max(1, h // 2)
    if not (abs(u) < 1e6 and abs(v) < 1e6):
        u, v = 0.0, 0.0
    x, y = u * w - 0.5, v * h - 0.5
    ix, iy = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - ix, y - iy
    r, g, b, a = 0.0, 0.0, 0.0, 0.0
    for j in range(2):
        for i in range(2):
            weight = (fx if i else 1 - fx) * (fy if j else 1 - fy)
            p = at + (_wrap(iy + j, h, row[6]) * w + _wrap(ix + i, w, row[5])) * channels
            if channels >= 3:
                r += weight * _value(textures, wide, p, srgb)
                g += weight * _value(textures, wide, p + 1, srgb)
                b += weight * _value(textures, wide, p + 2, srgb)
                a += weight * (_value(textures, wide, p + 3, False) if channels == 4 else 1.0)
            else:
                grey = weight * _value(textures, wide, p, srgb)
                r, g, b = r + grey, g + grey, b + grey
                a += weight * (_value(textures, wide, p + 1, False) if channels == 2 else 1.0)
    return r, g, b, a
