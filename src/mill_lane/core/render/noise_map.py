"""The noise that is left in each pixel of a film."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.noise import by_bands, relative_error


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
    return by_bands(relative_error, luma[..., 0], luma[..., 1], samples)
