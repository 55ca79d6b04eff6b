"""How much noise is left, estimated from one render."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

WINDOW = 9
BAND = 128  # rows at a time
FLOOR = 0.05  # keeps the relative error of black pixels finite


class Noise(NamedTuple):
    """Relative standard error of the luminance over a picture:

    root mean square and 95th percentile of the pixels.
    """

    rms: float
    p95: float


def pool(plane: NDArray[Any], window: int = WINDOW) -> NDArray[np.float64]:
    """The mean over a window x window neighbourhood, at the borders over what there is of it."""
    r = window // 2
    out = np.asarray(plane, float)
    for axis in (0, 1):
        n = out.shape[axis]
        total = np.concatenate([np.zeros_like(np.take(out, [0], axis)), np.cumsum(out, axis)], axis)
        high, low = np.minimum(np.arange(n) + r + 1, n), np.maximum(np.arange(n) - r, 0)
        count = (high - low).reshape([-1 if i == axis else 1 for i in range(out.ndim)])
        out = (np.take(total, high, axis) - np.take(total, low, axis)) / count
    return out


def relative_error(
    total: NDArray[Any], squares: NDArray[Any], count: NDArray[Any], window: int = WINDOW
) -> NDArray[np.float64]:
    """Estimate the noise of each pixel from sums over its samples.

    Parameters
    ----------
    total, squares : array, (H, W)
        Sums of the luminance and of its square.
    count : array, (H, W)
        Samples.
    window : int
        Side of the square over which mean and spread are pooled, pixels.

    Returns
    -------
    array of float64, (H, W)
        sigma / (sqrt(n) (mean + 0.05)); infinity with fewer than 2 samples.
    """
    n = np.maximum(np.asarray(count, float), 1)
    mean = total / n
    variance = np.maximum(squares / n - mean * mean, 0) * n / np.maximum(n - 1, 1)
    sigma = np.sqrt(pool(variance, window))
    error = sigma / (np.sqrt(n) * (pool(mean, window) + FLOOR))
    return np.where(np.asarray(count) >= 2, error, np.inf)


def error_of_two(
    first: NDArray[Any], second: NDArray[Any], window: int = WINDOW
) -> NDArray[np.float64]:
    """Measure the noise of each pixel from two pictures of the same view with other seeds.

    Half of the squared difference of two independent values is an unbiased estimate of the variance
    of either.

    Parameters
    ----------
    first, second : array, (H, W)
        Luminance.
    window : int
        Side of the square over which mean and spread are pooled, pixels.

    Returns
    -------
    array of float64, (H, W)
        sigma / (mean + 0.05), of one of the two.
    """
    a, b = np.asarray(first, float), np.asarray(second, float)
    sigma = np.sqrt(pool((a - b) ** 2 / 2.0, window))
    return sigma / (pool((a + b) / 2.0, window) + FLOOR)


def by_bands(
    measure: Callable[..., NDArray[Any]], *planes: NDArray[Any], halo: int = WINDOW // 2
) -> NDArray[np.float32]:
    """A noise map made a few rows at a time, so that a large picture takes little memory.

    Parameters
    ----------
    measure : callable
        Makes a map (h, W) of rows of the planes.
    *planes : arrays, (H, W)
    halo : int
        Rows beyond its own that a pixel's noise depends on.

    Returns
    -------
    array of float32, (H, W)
    """
    height = len(planes[0])
    out = np.empty(planes[0].shape, np.float32)
    for y in range(0, height, BAND):
        low, high = max(0, y - halo), min(height, y + BAND + halo)
        error = measure(*(plane[low:high] for plane in planes))
        end = min(height, y + BAND)
        out[y:end] = error[y - low : end - low]
    return out


def error_of_one(picture: NDArray[Any], window: int = WINDOW) -> NDArray[np.float64]:
    """Estimate the noise of each pixel from a picture alone: what differs from its neighbours.

    Fine texture counts as noise, and what a lossy file smoothed away does not.

    Parameters
    ----------
    picture : array, (H, W)
        Luminance.
    window : int
        Side of the square over which mean and spread are pooled, pixels.

    Returns
    -------
    array of float64, (H, W)
        sigma / (mean + 0.05).

    References
    ----------
    Immerkær, "Fast Noise Variance Estimation", Computer Vision and Image Understanding 64 (1996):
    the mask, which leaves planes and edges along an axis out, and its factor.
    """
    p = np.pad(np.asarray(picture, float), 1, "edge")
    across = p[:, :-2] - 2.0 * p[:, 1:-1] + p[:, 2:]
    both = across[:-2] - 2.0 * across[1:-1] + across[2:]
    sigma = np.sqrt(np.pi / 2.0) / 6.0 * pool(np.abs(both), window)
    return sigma / (pool(picture, window) + FLOOR)


def summarise(error: NDArray[Any]) -> Noise:
    """The two figures of a noise map; infinite where a pixel has no estimate yet."""
    if error.size == 0 or not np.isfinite(error).all():
        return Noise(float("inf"), float("inf"))
    return Noise(float(np.sqrt(np.mean(error * error))), float(np.percentile(error, 95)))
