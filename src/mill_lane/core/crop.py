"""A crop as a share of the frame: the same part of the view in a picture of any size."""

from __future__ import annotations

import math

from mill_lane.core.errors import MillError
from mill_lane.core.recipe import Region

# Left, top, right, bottom of the frame, 0 to 1.
Crop = tuple[float, float, float, float]
WHOLE: Crop = (0.0, 0.0, 1.0, 1.0)
PLACES = 6  # decimals in an address: under a tenth of a pixel of the largest picture
TINY = 1e-9


def crop_of(text: str) -> Crop | None:
    """Read a crop, as shares or in percent: "0.25,0.1,0.5,0.4", "25%,10%,50%,40%".

    Returns
    -------
    tuple of float or None
        What of it lies within the frame; None for an empty text: the whole view.

    Raises
    ------
    MillError
        For what is no crop, or lies outside the frame.
    """
    if not text.strip():
        return None
    try:
        edges = [_share(word) for word in text.split(",")]
        x0, y0, x1, y1 = edges
    except ValueError as e:
        raise MillError(
            f"“{text[:80]}” is no crop.",
            "Give left, top, right and bottom as shares of the frame, like 0.25,0.1,0.5,0.4.",
        ) from e
    x0, x1 = max(0.0, min(x0, x1)), min(1.0, max(x0, x1))
    y0, y1 = max(0.0, min(y0, y1)), min(1.0, max(y0, y1))
    if x1 - x0 < TINY or y1 - y0 < TINY:
        raise MillError("The crop does not touch the picture.", "Drag a crop over the picture.")
    return (x0, y0, x1, y1)


def _share(word: str) -> float:
    word = word.strip()
    value = float(word.removesuffix("%")) / (100 if word.endswith("%") else 1)
    if not math.isfinite(value):
        raise ValueError(word)
    return value


def crop_text(crop: Crop | None) -> str:
    """A crop as it stands in an address; empty for the whole view."""
    if crop is None or all(abs(a - b) < 10**-PLACES for a, b in zip(crop, WHOLE, strict=True)):
        return ""
    return ",".join(f"{v:.{PLACES}f}".rstrip("0").rstrip(".") for v in crop)


def pixels_of(crop: Crop | None, width: int, height: int) -> Region:
    """The pixels of a crop in a picture of a size, x1 and y1 exclusive: to the nearest edges, one
    pixel at least; None for the whole picture.
    """
    x0, y0, x1, y1 = crop or WHOLE
    left, right = _edges(x0, x1, width)
    top, bottom = _edges(y0, y1, height)
    return left, top, right, bottom


def _edges(low: float, high: float, size: int) -> tuple[int, int]:
    first, last = round(low * size), round(high * size)
    if first < last:
        return first, last
    middle = min(int((low + high) / 2 * size), size - 1)
    return middle, middle + 1


def shares_of(region: Region, width: int, height: int) -> Crop:
    """The crop that a region of a picture is."""
    x0, y0, x1, y1 = region
    return x0 / width, y0 / height, x1 / width, y1 / height
