"""Smoothing a picture of few samples along what is seen in it, for looking only.

The edge-avoiding à-trous wavelet transform: Dammertz, Sewtz, Hanika, Lensch, "Edge-Avoiding
À-Trous Wavelet Transform for fast Global Illumination Filtering", High Performance Graphics 2010.
Colours of surfaces are divided out first, so that textures stay as sharp as they are.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.srgb import LUMA

F32 = NDArray[np.float32]
SPLINE = (1 / 16, 1 / 4, 3 / 8, 1 / 4, 1 / 16)  # B3, as in the paper
ROUNDS = 4  # steps of 1, 2, 4 and 8 pixels
DEPTH_SHARE, COLOUR_WIDTH = 0.05, 0.1  # how alike neighbours have to be
NORMAL_DOUBLINGS = 5  # the cosine between them to the power of 32
LIGHT_WIDTH = 1.2  # e-folds of luminance in the first round, half as much in each that follows
ENOUGH = 64.0  # samples from which the light's differences count in full
DARKEST = 0.03  # colours below are not divided out: their light would be nearly all noise
BRIGHTEST = 6.0  # times the mean of its neighbours that a pixel keeps of its light


def smoothed(
    light: NDArray[Any], albedo: NDArray[Any], normal: NDArray[Any], depth: Any, samples: float
) -> F32:
    """Spread light among neighbours that show the same surface.

    Parameters
    ----------
    light, albedo, normal : array, (H, W, 3)
        Means of the samples; linear light.
    depth : array, (H, W)
        Metres along the ray; whatever is not finite counts as very far.
    samples : float
        Of a pixel, in the mean: the fewer, the less a difference in light says.

    Returns
    -------
    array of float32, (H, W, 3)
    """
    base = np.maximum(np.nan_to_num(albedo).astype(np.float32), DARKEST)
    flow = np.nan_to_num(light).astype(np.float32) / base
    flow = _without_dots(flow)
    facing = np.nan_to_num(normal).astype(np.float32)
    facing = facing / np.maximum(np.linalg.norm(facing, axis=2, keepdims=True), 1e-6)
    far = np.nan_to_num(np.asarray(depth, np.float32), nan=1e6, posinf=1e6)
    guides = (base, facing, far)
    width = LIGHT_WIDTH * max(1.0, (ENOUGH / max(samples, 0.25)) ** 0.5)
    for k in range(ROUNDS):
        flow = _round(flow, guides, 1 << k, width / 2**k)
    return np.asarray(flow * base, np.float32)


def _round(flow: F32, guides: tuple[F32, F32, F32], step: int, width: float) -> F32:
    height, columns = guides[2].shape
    luma = _box(flow @ np.array(LUMA, np.float32))
    bright = np.log(luma + np.float32(1e-3)) / np.float32(width)
    here = (*guides, bright, flow)
    edge = 2 * step
    wide = [np.pad(a, ((edge, edge), (edge, edge), (0, 0))[: a.ndim], "edge") for a in here]
    base, facing, far = guides
    closeness = 1.0 / (DEPTH_SHARE * far * step + np.float32(1e-6))
    total, weights = np.zeros_like(flow), np.zeros_like(far)
    for j in range(5):
        for i in range(5):
            rows, cols = j * step, i * step
            base2, facing2, far2, bright2, flow2 = (
                a[rows : rows + height, cols : cols + columns] for a in wide
            )
            unlike = np.abs(far - far2) * closeness + (bright - bright2) ** 2
            unlike += ((base - base2) ** 2).sum(2) * np.float32(COLOUR_WIDTH**-2)
            w = np.float32(SPLINE[j] * SPLINE[i]) * np.exp(-unlike)
            turn = np.maximum(np.einsum("ijk,ijk->ij", facing, facing2), 0.0)
            for _ in range(NORMAL_DOUBLINGS):
                turn *= turn
            w *= turn
            if i == j == 2:
                w = np.maximum(w, np.float32(1e-6))  # of the sky, which faces nowhere, itself alone
            total += w[..., None] * flow2
            weights += w
    return np.asarray(total / weights[..., None], np.float32)


def _box(plane: F32, reach: int = 1) -> F32:
    """The mean of the square round each pixel, (2 reach + 1) on a side."""
    width = 2 * reach + 1
    for axis in (0, 1):
        edges = ((reach, reach), (0, 0)) if axis == 0 else ((0, 0), (reach, reach))
        padded, n = np.pad(plane, edges, "edge"), plane.shape[axis]
        total = np.zeros_like(plane)
        for k in range(width):
            total += np.take(padded, range(k, k + n), axis)
        plane = total / np.float32(width)
    return plane


def _without_dots(flow: F32) -> F32:
    """Dim single pixels that are far brighter than the 24 around them."""
    luma = flow @ np.array(LUMA, np.float32)
    around = (25 * _box(luma, 2) - luma) / 24
    most = BRIGHTEST * np.maximum(around, 0.0) + 1e-3
    return np.asarray(flow * np.minimum(1.0, most / np.maximum(luma, 1e-9))[..., None], np.float32)
