"""How far two pictures are apart: RMSE, relative MSE, PSNR and SSIM."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from skimage import metrics

from mill_lane.core.errors import MillError

WINDOW = 7  # pixels, of the structural similarity


def rmse(a: NDArray[Any], b: NDArray[Any]) -> float:
    """Root mean square error over all values.

    Parameters
    ----------
    a, b : arrays of one shape

    Raises
    ------
    MillError
        When the sizes differ.
    """
    _check_sizes(a, b)
    return float(np.sqrt(metrics.mean_squared_error(a, b)))


def relative_mse(a: NDArray[Any], reference: NDArray[Any]) -> float:
    """Mean of squared error over squared reference plus 0.01.

    Parameters
    ----------
    a, reference : arrays of one shape

    Raises
    ------
    MillError
        When the sizes differ.

    Notes
    -----
    As usual in papers on rendering (Rousselle et al. 2011).
    """
    _check_sizes(a, reference)
    r = np.asarray(reference, float)
    return float(np.mean((np.asarray(a, float) - r) ** 2 / (r * r + 0.01)))


def psnr(a: NDArray[Any], b: NDArray[Any], peak: float = 1.0) -> float:
    """Peak signal-to-noise ratio in decibels; infinite for equal pictures.

    Parameters
    ----------
    a, b : arrays of one shape
    peak : float
        The largest value that a pixel can have.

    Raises
    ------
    MillError
        When the sizes differ.
    """
    _check_sizes(a, b)
    if np.array_equal(a, b):
        return float("inf")
    x, y = np.asarray(a, float), np.asarray(b, float)
    ratio: Any = metrics.peak_signal_noise_ratio
    return float(ratio(x, y, data_range=peak))


def ssim(a: NDArray[Any], b: NDArray[Any], peak: float = 1.0) -> float:
    """Structural similarity with a uniform 7 x 7 window, averaged over channels and pixels.

    Parameters
    ----------
    a, b : arrays of one shape, (H, W) or (H, W, C)
    peak : float
        The largest value that a pixel can have.

    Raises
    ------
    MillError
        When the sizes differ, or the pictures are smaller than the window.

    References
    ----------
    Wang et al., "Image Quality Assessment: From Error Visibility to Structural Similarity", 2004.
    """
    _check_sizes(a, b)
    x, y = np.atleast_3d(np.asarray(a, float)), np.atleast_3d(np.asarray(b, float))
    if min(x.shape[:2]) < WINDOW:
        raise MillError("The pictures are smaller than 7 pixels.", "Compare a larger crop.")
    found: float = metrics.structural_similarity(
        x, y, win_size=WINDOW, data_range=peak, channel_axis=2
    )
    return float(found)


def _check_sizes(a: NDArray[Any], b: NDArray[Any]) -> None:
    if a.shape != b.shape:
        raise MillError(
            f"The pictures differ in size: {a.shape} and {b.shape}.", "Compare the same crop."
        )
