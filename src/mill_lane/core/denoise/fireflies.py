"""Single pixels far brighter than what is around them: dimmed, and their light given to their
neighbours, so that none is lost.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.compiled import compiler_of
from mill_lane.core.image.srgb import luminance

F32 = NDArray[np.float32]
compiled = compiler_of(__file__, error_model="numpy")
REACH = 2  # pixels to either side that a pixel is held against, and that its light goes to
FARTHEST = 9  # the same where it has so much that less would leave a bright square
BRIGHTER = 4.0  # times the brighter ones among its neighbours that a pixel may be
ALIKE = 1.5  # times what it is by other samples that a small lamp may be
RANK = 4  # of the brightest there, counted from the top, that it is held against
MARGIN = REACH + FARTHEST  # pixels beyond a strip that it depends on


@dataclass(frozen=True, eq=False)
class Calmed:
    """A picture without its bright dots: which were dimmed (H, W), and how much light moved."""

    picture: F32
    dots: NDArray[np.bool_]
    over: F32  # luminance that was given away, (H, W)

    @property
    def count(self) -> int:
        """How many pixels were dimmed."""
        return int(self.dots.sum())

    @property
    def moved(self) -> float:
        """The share of the light that moved."""
        total = float((luminance(self.picture)).sum(dtype=np.float64))
        return float(self.over.sum(dtype=np.float64)) / max(total, 1e-30)


def calmed(picture: F32, base: F32 | None = None, other: F32 | None = None) -> Calmed:
    """Dim bright dots and spread what they had too much over the square round them, a wider one the
    more it is.

    Parameters
    ----------
    picture : float32 array (H, W, 3)
        Linear light.
    base : float32 array (H, W, 3), optional
        Colours of surfaces, by which light is divided before it is compared.
    other : float32 array (H, W, 3), optional
        Of other samples: what is bright there, too, is a small lamp and no dot.

    Returns
    -------
    Calmed
        With the very sum of light that the picture had.
    """
    colour = picture if base is None else picture / base
    known = np.zeros(picture.shape[:2], np.float32)
    if other is not None:
        known = luminance(other if base is None else other / base).astype(np.float32)
    share = shares_kept(luminance(colour), known)
    over = picture * (1 - share)[..., None]
    out = (picture - over).astype(np.float32)
    _spread(over.astype(np.float32), _reaches(share), share, out)
    return Calmed(out, share < 1, (luminance(over)).astype(np.float32))


def shares_kept(plane: F32, other: F32 | None = None) -> F32:
    """What each value of a plane (H, W), none below 0, keeps for not to be a dot: 1 or less."""
    wide = np.pad(plane, REACH, "symmetric").astype(np.float32)
    known = np.zeros(plane.shape, np.float32) if other is None else other
    return np.asarray(_shares(wide, known), np.float32)


@compiled
def _shares(wide: Any, other: Any) -> Any:
    """What each pixel keeps of its light."""
    height, width = other.shape
    out = np.ones((height, width), np.float32)
    top = np.empty(RANK, np.float32)
    for y in range(height):
        for x in range(width):
            here = wide[y + REACH, x + REACH]
            brighter = 0
            top[:] = 0.0
            for j in range(2 * REACH + 1):
                for i in range(2 * REACH + 1):
                    value = wide[y + j, x + i]
                    brighter += value >= here
                    for k in range(RANK):
                        if value > top[k]:
                            top[k], value = value, top[k]
                if brighter > RANK:
                    break  # as many are as bright: no dot
            if brighter <= RANK:
                most = np.float32(BRIGHTER) * top[RANK - 1] + np.float32(1e-6)
                most = max(most, np.float32(ALIKE) * other[y, x])
                if here > most:
                    out[y, x] = most / here
    return out


@compiled
def _reaches(share: Any) -> Any:
    """How far each dot's surplus goes: until no pixel gets more than its neighbours have."""
    out = np.full(share.shape, REACH, np.int64)
    for y in range(share.shape[0]):
        for x in range(share.shape[1]):
            # It keeps BRIGHTER times as much as its neighbours have.
            surplus = BRIGHTER * (1 / max(share[y, x], np.float32(1e-9)) - 1)
            while out[y, x] < FARTHEST and surplus > (out[y, x] + 1) ** 2:
                out[y, x] += 1
    return out


@compiled
def _spread(over: Any, reaches: Any, share: Any, out: Any) -> None:
    """Give each dot's surplus to the pixels round it that are there, the less the farther: no edge
    of what got it is to be seen.
    """
    height, width = share.shape
    for y in range(height):
        for x in range(width):
            if share[y, x] < 1:
                reach = reaches[y, x]
                y0, y1 = max(y - reach, 0), min(y + reach + 1, height)
                x0, x1 = max(x - reach, 0), min(x + reach + 1, width)
                down = across = 0
                for j in range(y0, y1):
                    down += reach + 1 - abs(j - y)
                for i in range(x0, x1):
                    across += reach + 1 - abs(i - x)
                for c in range(3):
                    each = over[y, x, c] / np.float32(down * across)
                    for j in range(y0, y1):
                        row = each * np.float32(reach + 1 - abs(j - y))
                        for i in range(x0, x1):
                            out[j, i, c] += row * np.float32(reach + 1 - abs(i - x))
