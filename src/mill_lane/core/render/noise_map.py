"""The noise that is left in each pixel of a film."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.noise import WINDOW, relative_error

BAND = 128  # rows at a time, so that measuring a large picture takes little memory


def noise_map(luma: NDArray[np.float32], samples: NDArray[np.uint32]) -> NDArray[np.float32]:
    """Estimate the relative standard error of every pixel, pooled (see `core.image.noise`).

    Parameters
    ----------
    luma : array of float32, (H, W, 2)
        Sums of the luminance and of its square.
    samples : array of uint32, (H, W)
        How many samples were summed.

    Returns
    -------
    array of float32, (H, W)
        Infinite where a pixel has fewer than two samples.
    """
    height = samples.shape[0]
    out = np.empty(samples.shape, np.float32)
    halo = WINDOW // 2
    for y in range(0, height, BAND):
        low, high = max(0, y - halo), min(height, y + BAND + halo)
        rows = slice(low, high)
        error = relative_error(luma[rows, :, 0], luma[rows, :, 1], samples[rows])
        end = min(height, y + BAND)
        out[y:end] = error[y - low : end - low]
    return out
