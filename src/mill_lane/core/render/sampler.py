"""Owen-scrambled Sobol points by hash: any sample of any pixel without state.

Two Sobol dimensions, padded: each pair of dimensions shuffles and scrambles the points by seeds of
its own (Burley 2020, Practical Hash-based Owen Scrambling).  The same seed, pixel, sample and
dimension give the same bits anywhere.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.render.jit import inner, lean

U = np.uint32


@inner
def mix(x: Any) -> Any:
    """A 32-bit integer hash with low bias (constants found by C. Wellons' search, 2018)."""
    x = U(x)
    x ^= x >> U(16)
    x = U(x * U(0x7FEB352D))
    x ^= x >> U(15)
    x = U(x * U(0x846CA68B))
    x ^= x >> U(16)
    return U(x)


@inner
def reverse(x: Any) -> Any:
    """The bits of a 32-bit integer in reverse order."""
    x = U(x)
    x = U((x >> U(1)) & U(0x55555555)) | U((x & U(0x55555555)) << U(1))
    x = U((x >> U(2)) & U(0x33333333)) | U((x & U(0x33333333)) << U(2))
    x = U((x >> U(4)) & U(0x0F0F0F0F)) | U((x & U(0x0F0F0F0F)) << U(4))
    x = U((x >> U(8)) & U(0x00FF00FF)) | U((x & U(0x00FF00FF)) << U(8))
    return U(U(x >> U(16)) | U(x << U(16)))


@inner
def _scramble_reversed(x: Any, seed: Any) -> Any:
    """Laine-Karras permutation in the improved form of Burley 2020 (section 5 and N.

    Vegdahl's constants).
    """
    x = U(x)
    x = U(x ^ U(x * U(0x3D20ADEA)))
    x = U(x + seed)
    x = U(x * U((seed >> U(16)) | U(1)))
    x = U(x ^ U(x * U(0x05526C56)))
    x = U(x ^ U(x * U(0x53A22864)))
    return x


@inner
def scramble(x: Any, seed: Any) -> Any:
    """Owen's nested uniform scrambling of a 32-bit fraction."""
    return reverse(_scramble_reversed(reverse(x), seed))


@inner
def second_dimension_reversed(i: Any) -> Any:
    """The second Sobol dimension of index i (polynomial x + 1), its bits in reverse order.

    Its direction numbers are the rows of Pascal's triangle modulo 2, so that bit j is the sum of
    the index bits whose places contain j (Lucas' theorem): five steps instead of a loop over the
    bits.
    """
    x = U(i)
    x ^= (x >> U(1)) & U(0x55555555)
    x ^= (x >> U(2)) & U(0x33333333)
    x ^= (x >> U(4)) & U(0x0F0F0F0F)
    x ^= (x >> U(8)) & U(0x00FF00FF)
    x ^= x >> U(16)
    return U(x)


@lean
def pixel_seed(seed: int, x: int, y: int) -> Any:
    """The seed of a pixel of the whole picture, so that a region gives the same bits as the full
    frame.
    """
    return mix(U(x) + mix(U(y) + mix(U(seed))))


@lean
def pair(seed: Any, index: int, dimension: int) -> Any:
    """Two numbers in [0, 1), float64, for a sample index and a dimension (counted in pairs)."""
    s = mix(U(seed) + U(dimension) * U(0x9E3779B9))
    i = scramble(U(index), s)
    # The seed is well mixed by now; a multiplication and a fold give each dimension one of its own.
    t = U(s * U(0x85EBCA6B))
    first = U(t ^ (t >> U(15)))
    t = U((s + U(0x3C6EF372)) * U(0xC2B2AE35))
    second = U(t ^ (t >> U(16)))
    # The first Sobol dimension is the reversed index, and scrambling reverses again.
    a = reverse(_scramble_reversed(i, first))
    b = reverse(_scramble_reversed(second_dimension_reversed(i), second))
    return np.float64(a) * 2.3283064365386963e-10, np.float64(b) * 2.3283064365386963e-10
