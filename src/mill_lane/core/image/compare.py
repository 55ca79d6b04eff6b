"""How far two pictures are apart: RMSE, relative MSE, PSNR and SSIM."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.image.noise import pool


def rmse(a: NDArray[Any], b: NDArray[Any]) -> float:
    """Root mean square error over all values.  Raises MillError when the sizes differ."""
    _same(a, b)
    return float(np.sqrt(np.mean((np.asarray(a, float) - np.asarray(b, float)) ** 2)))


def relative_mse(a: NDArray[Any], reference: NDArray[Any]) -> float:
    """Mean of squared error over squared reference (+ 0.01), as usual in rendering papers
    (Rousselle et al. 2011).
    """
    _same(a, reference)
    r = np.asarray(reference, float)
    return float(np.mean((np.asarray(a, float) - r) ** 2 / (r * r + 0.01)))


def psnr(a: NDArray[Any], b: NDArray[Any], peak: float = 1.0) -> float:
    """Peak signal-to-noise ratio in decibels; infinite for equal pictures."""
    error = rmse(a, b)
    return float("inf") if error == 0 else float(20 * np.log10(peak / error))


def ssim(a: NDArray[Any], b: NDArray[Any], peak: float = 1.0) -> float:
    """Structural similarity (Wang et al.

    2004) with a uniform 7x7 window, averaged over channels and pixels.

    Sample covariance (N - 1) and a border of 3 pixels left out, as in the reference library it is
    tested against.
    """
    _same(a, b)
    x, y = np.atleast_3d(np.asarray(a, float)), np.atleast_3d(np.asarray(b, float))
    if min(x.shape[:2]) < 7:
        raise MillError("The pictures are smaller than 7 pixels.", "Compare a larger crop.")
    c1, c2, unbiased = (0.01 * peak) ** 2, (0.03 * peak) ** 2, 49 / 48
    mx, my = pool(x, 7), pool(y, 7)
    vx, vy = (pool(x * x, 7) - mx * mx) * unbiased, (pool(y * y, 7) - my * my) * unbiased
    cov = (pool(x * y, 7) - mx * my) * unbiased
    s = (2 * mx * my + c1) * (2 * cov + c2) / ((mx * mx + my * my + c1) * (vx + vy + c2))
    return float(s[3:-3, 3:-3].mean())


def _same(a: NDArray[Any], b: NDArray[Any]) -> None:
    if a.shape != b.shape:
        raise MillError(
            f"The pictures differ in size: {a.shape} and {b.shape}.", "Compare the same crop."
        )
