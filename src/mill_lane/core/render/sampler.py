"""Owen-scrambled Sobol points by hash: any sample of any pixel without state.

Two Sobol dimensions, padded: each pair of dimensions shuffles and scrambles the points by seeds of
its own (Burley 2020, Practical Hash-based Owen Scrambling).  The same seed, pixel, sample and
dimension give the same bits anywhere.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.render.jit import inner, linked
from mill_lane.core.render.lanes import u32

U = np.uint32
UNIT = 2.0**-32


@inner
def mix(x: Any) -> Any:
    """A 32-bit integer hash with low bias (constants found by C. Wellons' search, 2018)."""
    x = u32(x)
    x = u32(x ^ (x >> U(16)))
    x = u32(x * U(0x7FEB352D))
    x = u32(x ^ (x >> U(15)))
    x = u32(x * U(0x846CA68B))
    return u32(x ^ (x >> U(16)))


@inner
def reverse(x: Any) -> Any:
    """The bits of a 32-bit integer in reverse order."""
    x = u32(x)
    x = u32((x >> U(1)) & U(0x55555555)) | u32((x & U(0x55555555)) << U(1))
    x = u32((x >> U(2)) & U(0x33333333)) | u32((x & U(0x33333333)) << U(2))
    x = u32((x >> U(4)) & U(0x0F0F0F0F)) | u32((x & U(0x0F0F0F0F)) << U(4))
    x = u32((x >> U(8)) & U(0x00FF00FF)) | u32((x & U(0x00FF00FF)) << U(8))
    return u32(u32(x >> U(16)) | u32(x << U(16)))


@inner
def _scramble_reversed(x: Any, seed: Any) -> Any:
    """Laine-Karras permutation in the improved form of Burley 2020 (section 5 and N.

    Vegdahl's constants).
    """
    x = u32(x ^ u32(x * U(0x3D20ADEA)))
    x = u32(x + seed)
    x = u32(x * u32((seed >> U(16)) | U(1)))
    x = u32(x ^ u32(x * U(0x05526C56)))
    return u32(x ^ u32(x * U(0x53A22864)))


@inner
def _second_dimension_reversed(x: Any) -> Any:
    """The second Sobol dimension of an index (polynomial x + 1), its bits in reverse order.

    Its direction numbers are the rows of Pascal's triangle modulo 2, so that bit j is the sum of
    the index bits whose places contain j (Lucas' theorem): five steps instead of a loop over the
    bits.
    """
    x = u32(x ^ ((x >> U(1)) & U(0x55555555)))
    x = u32(x ^ ((x >> U(2)) & U(0x33333333)))
    x = u32(x ^ ((x >> U(4)) & U(0x0F0F0F0F)))
    x = u32(x ^ ((x >> U(8)) & U(0x00FF00FF)))
    return u32(x ^ (x >> U(16)))


@inner
def points(seed: Any, index: Any, dimension: Any) -> Any:
    """The two coordinates of a sample index in a dimension, of which UNIT is 1: uint32, or lanes of
    it where paths have a seed, an index and a dimension of their own.
    """
    s = mix(u32(u32(dimension * U(0x9E3779B9)) + u32(seed)))
    i = reverse(_scramble_reversed(reverse(index), s))
    # The seed is well mixed by now; a multiplication and a fold give each dimension one of its own.
    t = u32(s * U(0x85EBCA6B))
    first = u32(t ^ (t >> U(15)))
    t = u32(u32(s + U(0x3C6EF372)) * U(0xC2B2AE35))
    second = u32(t ^ (t >> U(16)))
    # The first Sobol dimension is the reversed index, and scrambling reverses again.
    a = reverse(_scramble_reversed(i, first))
    return a, reverse(_scramble_reversed(_second_dimension_reversed(i), second))


@linked
def pixel_seed(seed: int, x: int, y: int) -> Any:
    """The seed of a pixel of the whole picture, so that a region gives the same bits as the full
    frame.
    """
    return mix(U(U(x) + mix(U(U(y) + mix(U(seed))))))


@linked
def pair(seed: Any, index: int, dimension: int) -> Any:
    """Two numbers in [0, 1), float64, for a sample index and a dimension (counted in pairs)."""
    a, b = points(seed, U(index), U(dimension))
    return np.float64(a) * UNIT, np.float64(b) * UNIT
