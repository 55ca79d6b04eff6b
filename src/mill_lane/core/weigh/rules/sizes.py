"""Textures halved until they are small enough."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from mill_lane.core.render.mip_chain import chain_values
from mill_lane.core.weigh.analysis import TextureRow


@dataclass(frozen=True)
class Limit:
    """What a rule says of a texture: its longest side in pixels, and the facts that say so."""

    row: TextureRow
    limit: int
    facts: dict[str, Any] = field(default_factory=dict)


def halvings(width: int, height: int, limit: int) -> int:
    """How often a picture must be halved until its longer side is within the limit."""
    n = 0
    while max(width >> n, height >> n) > limit:
        n += 1
    return n


def shrunk(t: TextureRow, limit: int) -> tuple[tuple[int, int], int]:
    """Tell what becomes of a texture whose longer side has to be within a limit.

    Returns
    -------
    size : (int, int)
        Pixels.
    memory : int
        Bytes held, with all mip levels.
    """
    n = halvings(t.width, t.height, limit)
    new = max(1, t.width >> n), max(1, t.height >> n)
    return new, chain_values(*new, t.channels) * (2 if t.bits > 8 else 1)
