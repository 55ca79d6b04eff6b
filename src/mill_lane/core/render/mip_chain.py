"""The sizes of a texture's mip levels."""

from __future__ import annotations


def levels(width: int, height: int) -> list[tuple[int, int]]:
    """The sizes of a full mip chain, largest first, each half of the one before, rounded down, at
    least 1.
    """
    sizes = [(width, height)]
    while sizes[-1] != (1, 1):
        w, h = sizes[-1]
        sizes.append((max(1, w // 2), max(1, h // 2)))
    return sizes


def chain_values(width: int, height: int, channels: int) -> int:
    """Numbers held for a texture with its mip chain; about 4/3 of width x height x channels."""
    return channels * sum(w * h for w, h in levels(width, height))
