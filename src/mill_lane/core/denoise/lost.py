"""What denoising took that was no noise: what both halves of the samples have and the clean picture
has not.

Noise of one half knows nothing of the other's, so that the product of what was taken from each is,
in the mean over a few pixels, the square of the detail that went.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from mill_lane.core.denoise.fireflies import shares_kept
from mill_lane.core.image.srgb import luminance

F32 = NDArray[np.float32]
WINDOW = 7  # pixels across of the squares that are held together
SURE = 3.0  # standard errors from which on it is no chance
DARK = 0.01


@dataclass(frozen=True, eq=False)
class Lost:
    """Detail that went.

    shown : float32 (H, W), its size over the brightness there; 0 where it may be chance.  share :
    root mean square of the whole picture's.
    """

    shown: F32
    share: float

    def worst(self, count: int = 5, side: int = 96) -> list[tuple[int, int, int, int]]:
        """Crops (x0, y0, x1, y1) where the most went, the worst first, none upon another."""
        left = self.shown.astype(np.float64) ** 2
        height, width = left.shape
        w, h = min(side, width), min(side, height)
        out: list[tuple[int, int, int, int]] = []
        while len(out) < count and left.max(initial=0.0) > 0:
            sums = ndimage.uniform_filter(left, (h, w), mode="constant")
            y, x = np.unravel_index(int(sums.argmax()), sums.shape)
            x0 = min(max(int(x) - w // 2, 0), width - w)
            y0 = min(max(int(y) - h // 2, 0), height - h)
            out.append((x0, y0, x0 + w, y0 + h))
            left[y0 : y0 + h, x0 : x0 + w] = 0.0
        return out


def lost_detail(half_a: F32, half_b: F32, clean: F32) -> Lost:
    """Find the detail that a clean picture lacks.

    Parameters
    ----------
    half_a, half_b, clean : float32 arrays (H, W, 3)
        Means of either half of the samples, and the picture made of them.
    """
    a, b, known = (luminance(np.asarray(x, np.float64)) for x in (half_a, half_b, clean))
    scale = np.maximum(ndimage.uniform_filter(known, WINDOW), 0.0) + DARK
    taken_a, taken_b = (a - known) / scale, (b - known) / scale
    product = taken_a * taken_b
    # Bright dots of both may meet in a pixel by chance: one alone is no detail.
    product *= shares_kept(np.abs(product).astype(np.float32))
    together = ndimage.uniform_filter(product, WINDOW)
    # How far products of two that know nothing of each other stray, in the mean over a square.
    noise = ndimage.uniform_filter((taken_a - taken_b) ** 2 / 2, WINDOW)
    stray = SURE * noise / WINDOW
    sure = np.where(together > stray, together, 0.0)
    return Lost(np.sqrt(sure).astype(np.float32), float(np.sqrt(sure.mean())))
