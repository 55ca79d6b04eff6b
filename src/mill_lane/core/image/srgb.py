"""The sRGB transfer function and the view transform (IEC 61966-2-1)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

# Luminance of linear Rec.709 primaries (ITU-R BT.709-6, item 3.2).
LUMA = (0.2126, 0.7152, 0.0722)


def to_linear(code: NDArray[Any]) -> NDArray[np.float64]:
    """Linear light of sRGB values in [0, 1]."""
    c = np.asarray(code, float)
    return np.where(c <= 0.04045, c / 12.92, ((np.maximum(c, 0.04045) + 0.055) / 1.055) ** 2.4)


def from_linear(light: NDArray[Any]) -> NDArray[np.float64]:
    """sRGB values in [0, 1] of linear light; what lies outside is clipped."""
    x = np.clip(np.asarray(light, float), 0.0, 1.0)
    return np.where(
        x <= 0.0031308, 12.92 * x, 1.055 * np.maximum(x, 0.0031308) ** (1 / 2.4) - 0.055
    )


def luminance(rgb: NDArray[Any]) -> NDArray[Any]:
    """Rec.709 luminance of linear colour, (..., 3) to (...)."""
    out: NDArray[Any] = rgb[..., 0] * LUMA[0] + rgb[..., 1] * LUMA[1] + rgb[..., 2] * LUMA[2]
    return out


def in_bands(
    make: Callable[[NDArray[Any]], NDArray[np.uint8]], picture: NDArray[Any], rows: int = 64
) -> NDArray[np.uint8]:
    """Make what is shown of a picture (H, W, ...) a few rows at a time, for little memory."""
    bands = [make(picture[y : y + rows]) for y in range(0, len(picture), rows)]
    return np.concatenate(bands)


def view(rgb: NDArray[Any], exposure: float = 0.0) -> NDArray[np.uint8]:
    """What goes to a screen or an 8-bit file: exposure in stops, the sRGB curve, 8 bits,
    (..., 3).
    """
    return (from_linear(np.nan_to_num(rgb) * 2.0**exposure) * 255 + 0.5).astype(np.uint8)
