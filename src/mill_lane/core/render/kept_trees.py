"""Acceleration structures of a scene kept on the disk, by the content of its meshes, and mapped.

One file of a `Shelf` holds the nodes of all meshes, their leaves, and how many of each a mesh has.
"""

from __future__ import annotations

import hashlib
import mmap
import os
from collections.abc import Iterable
from functools import cache
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render import build, plain, vectors, wide_nodes
from mill_lane.core.render.shelf import MARK, Shelf
from mill_lane.core.render.wide_nodes import LEAF, NODE

ENDING = ".trees"
HEAD = 2 * 8  # bytes of the counts of one mesh


class Trees(NamedTuple):
    """The hierarchies of P meshes, one after another."""

    nodes: NDArray[np.float32]  # (N, NODE)
    leaves: NDArray[np.float32]  # (B, LEAF)
    counts: NDArray[np.int64]  # (P, 2) nodes and leaves of each


@cache
def _edition() -> str:
    """What builds them: what another builder made is not taken up."""
    found = hashlib.sha256()
    for module in (build, wide_nodes, vectors, plain):
        found.update(Path(str(module.__file__)).read_bytes())
    return found.hexdigest()


def digest_of_mesh(positions: NDArray[np.float32], triangles: NDArray[np.uint32]) -> bytes:
    """By which the hierarchy of a mesh is known."""
    found = hashlib.blake2b(str(positions.shape).encode(), digest_size=32)
    found.update(np.ascontiguousarray(positions).data)
    found.update(np.ascontiguousarray(triangles).data)
    return found.digest()


def key_of(digests: Iterable[bytes]) -> bytes:
    """The mark of the trees of meshes in this order."""
    return hashlib.sha256(_edition().encode() + b"".join(digests)).hexdigest().encode()


def take(shelf: Shelf, key: bytes, meshes: int) -> Trees | None:
    """The trees that are kept under a key, mapped; None where there are none that are whole."""
    try:
        with shelf.opened(key.decode() + ENDING, key) as file:
            if file is None:
                return None
            size = os.fstat(file).st_size - MARK
            if size < HEAD * meshes:
                return None
            counts = np.frombuffer(os.pread(file, HEAD * meshes, size - HEAD * meshes), np.int64)
            counts = counts.reshape(meshes, 2)
            nodes, blocks = (int(x) for x in counts.sum(0))
            split = nodes * NODE * 4
            if counts.min(initial=0) < 0 or split + blocks * LEAF * 4 + HEAD * meshes != size:
                return None
            mapped = mmap.mmap(file, size, mmap.MAP_PRIVATE, mmap.PROT_READ)
    except OSError:
        return None
    shelf.count(size - HEAD * meshes)
    numbers = np.frombuffer(mapped, np.float32, (nodes * NODE + blocks * LEAF))
    return Trees(
        numbers[: nodes * NODE].reshape(-1, NODE), numbers[nodes * NODE :].reshape(-1, LEAF), counts
    )


def keep(shelf: Shelf, key: bytes, trees: Trees) -> None:
    """Keep them, where there is room."""
    shelf.put(key.decode() + ENDING, key, list(trees))
