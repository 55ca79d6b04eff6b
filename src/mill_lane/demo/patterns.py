"""Textures made by code:

grain, planks, tiles, crust, cloth, lettering.  uint8 or uint16, the same bits every time.
"""

from __future__ import annotations

import zlib

import numpy as np
from numpy.typing import NDArray
from PIL import Image as Pillow
from PIL import ImageDraw, ImageFont

Plane = NDArray[np.float32]


def seeded(name: str) -> np.random.Generator:
    """Random numbers that depend on the name alone."""
    return np.random.default_rng(zlib.crc32(name.encode()))


def cloud(rng: np.random.Generator, size: int, octaves: tuple[int, ...]) -> Plane:
    """Smooth noise in 0 to 1 that repeats at the edges:

    random grids of n x n values, blown up and added.
    """
    out = np.zeros((size, size), np.float32)
    total = 0.0
    for n in octaves:
        if n > size:
            continue
        weight = octaves[0] / n
        values = rng.random((n, n), np.float32)
        at = (np.arange(size, dtype=np.float32) + 0.5) / size * n - 0.5
        low = np.floor(at).astype(int)
        f = at - low
        f = f * f * (3 - 2 * f)
        rows = values[low % n] * (1 - f)[:, None] + values[(low + 1) % n] * f[:, None]
        out += weight * (rows[:, low % n] * (1 - f) + rows[:, (low + 1) % n] * f)
        total += weight
    return out / total


def height_map(kind: str, size: int, rng: np.random.Generator) -> Plane:
    """A relief in 0 to 1, (size, size), that repeats at its edges."""
    y, x = np.mgrid[0:size, 0:size].astype(np.float32) / size
    fine = cloud(rng, size, (64, 128, 256, 512))
    if kind == "planks":
        board = np.floor(x * 6)
        seam = np.minimum((x * 6) % 1, 1 - (x * 6) % 1)
        rings = 0.5 + 0.5 * np.sin(2 * np.pi * (18 * x + 3 * cloud(rng, size, (3, 6)) + board))
        return np.clip(0.55 * rings + 0.3 * fine + 0.15, 0, 1) * np.clip(seam * 30, 0, 1)
    if kind == "tiles":
        u, v = (x * 4) % 1, (y * 4) % 1
        edge = np.minimum(np.minimum(u, 1 - u), np.minimum(v, 1 - v))
        return np.clip(edge * 25, 0, 1) * (0.8 + 0.2 * fine)
    if kind == "bricks":
        row = np.floor(y * 12)
        u, v = (x * 6 + 0.5 * (row % 2)) % 1, (y * 12) % 1
        edge = np.minimum(np.minimum(u, 1 - u) * 2, np.minimum(v, 1 - v))
        return np.clip(edge * 12, 0, 1) * (0.6 + 0.4 * fine)
    if kind == "cloth":
        weave = 0.5 + 0.25 * np.sin(2 * np.pi * 128 * x) + 0.25 * np.sin(2 * np.pi * 128 * y)
        return 0.7 * weave + 0.3 * fine
    if kind == "crust":
        broad = cloud(rng, size, (4, 8, 16, 32))
        return np.clip(0.6 * broad + 0.4 * np.abs(2 * fine - 1), 0, 1)
    if kind == "iron":
        return 0.85 + 0.15 * fine
    return 0.5 + 0.5 * (cloud(rng, size, (8, 32, 128, 512)) - 0.5)  # plaster


def tiled(tile: NDArray[np.float32], size: int, rng: np.random.Generator) -> NDArray[np.float32]:
    """A tile laid side by side up to `size`, with a slow change over the whole so that no two
    places are the same.
    """
    n = max(1, size // tile.shape[0])
    reps = (n, n) + (1,) * (tile.ndim - 2)
    slow = 0.85 + 0.3 * cloud(rng, size // 4, (3, 5)).repeat(4, 0).repeat(4, 1)
    return np.tile(tile, reps) * (slow[..., None] if tile.ndim == 3 else slow)


def colours(
    kind: str, name: str, size: int, dark: tuple[float, ...], light: tuple[float, ...]
) -> NDArray[np.uint8]:
    """A picture (size, size, 3) between two sRGB colours by the relief of a kind."""
    rng = seeded(name)
    h = height_map(kind, min(size, 1024), rng)[..., None]
    tile = np.array(dark, np.float32) * (1 - h) + np.array(light, np.float32) * h
    return np.clip(tiled(tile, size, rng) * 255 + 0.5, 0, 255).astype(np.uint8)


def normals(kind: str, name: str, size: int, depth: float) -> NDArray[np.uint8]:
    """A normal map (size, size, 3): red right, green up, blue out, of the relief of a kind."""
    h = height_map(kind, min(size, 1024), seeded(name))
    scale = depth * h.shape[0] / 64
    dx = (np.roll(h, -1, 1) - np.roll(h, 1, 1)) * scale
    dy = (np.roll(h, -1, 0) - np.roll(h, 1, 0)) * scale
    n = np.stack([-dx, dy, np.ones_like(h)], -1)
    n /= np.linalg.norm(n, axis=2, keepdims=True)
    reps = max(1, size // h.shape[0])
    return np.tile(np.clip((n * 0.5 + 0.5) * 255 + 0.5, 0, 255).astype(np.uint8), (reps, reps, 1))


def roughness(
    kind: str, name: str, size: int, low: float, high: float, metal: float
) -> NDArray[np.uint8]:
    """Green roughness, blue metal, as glTF has it."""
    rng = seeded(name)
    h = height_map(kind, min(size, 1024), rng)
    rough = tiled(high + (low - high) * h, size, rng)
    out = np.empty((size, size, 3), np.uint8)
    out[..., 0], out[..., 2] = 0, int(metal * 255)
    out[..., 1] = np.clip(rough * 255, 8, 255)
    return out


def leaf(size: int) -> NDArray[np.uint8]:
    """A leaf with its outline in alpha, (size, size, 4)."""
    y, x = np.mgrid[0:size, 0:size].astype(np.float32) / size * 2 - 1
    inside = (np.abs(x) < 0.75 * np.sqrt(np.clip(1 - y * y, 0, 1)) * (1 - 0.35 * y)) & (
        np.abs(y) < 0.97
    )
    vein = np.minimum(np.abs(x), np.abs(((y + np.abs(x)) * 6) % 1 - 0.5) / 5)
    shade = np.clip(0.75 + vein * 2, 0, 1)[..., None] * np.array([0.32, 0.42, 0.16], np.float32)
    out = np.empty((size, size, 4), np.uint8)
    out[..., :3] = np.clip(shade * 255, 0, 255)
    out[..., 3] = inside * 255
    return out


def lettering(
    size: int, lines: list[str], paper: tuple[int, ...], ink: tuple[int, ...]
) -> NDArray[np.uint8]:
    """A card with printed lines, (size, size, 3)."""
    picture = Pillow.new("RGB", (size, size), paper)
    draw = ImageDraw.Draw(picture)
    draw.rectangle(
        (size * 0.04, size * 0.04, size * 0.96, size * 0.96), outline=ink, width=max(1, size // 100)
    )
    step = size * 0.8 / len(lines)
    for i, line in enumerate(lines):
        room = step * 0.78
        font = ImageFont.load_default(size=max(6, room))
        width = draw.textlength(line, font=font)
        if width > size * 0.84:
            font = ImageFont.load_default(size=max(6, room * size * 0.84 / width))
            width = draw.textlength(line, font=font)
        draw.text(((size - width) / 2, size * 0.1 + step * (i + 0.05)), line, fill=ink, font=font)
    return np.asarray(picture)


def sixteen_bits(pixels: NDArray[np.uint8]) -> NDArray[np.uint16]:
    """The same picture with 16 bits a channel, which hold nothing that 8 did not."""
    return pixels.astype(np.uint16) * np.uint16(257)
