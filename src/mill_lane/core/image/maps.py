"""Pictures of layers that hold numbers: one perceptually even ramp, with a scale in real units."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.srgb import luminance, view

# The viridis ramp (S. van der Walt and N. Smith, public domain) as polynomials of degree 6 in sRGB
# (fit from memory; a test holds its lightness to be even).
_RAMP = np.array(
    [
        [0.2777273272, 0.0054073445, 0.3340998053],
        [0.1050930431, 1.4046135299, 1.3845901626],
        [-0.3308618287, 0.2148475595, 0.0950951630],
        [-4.6342304990, -5.7991009734, -19.3324409563],
        [6.2282699363, 14.1799333668, 56.6905526007],
        [4.7763849977, -13.7451453777, -65.3530326334],
        [-5.4354558559, 4.6458526122, 26.3124352496],
    ]
)
RGB = NDArray[np.uint8]
GREY = 0.18  # what mid-grey reflects (common practice)
DARKEST = 1e-30  # light that counts as none


@dataclass(frozen=True)
class Scale:
    """What the ends of the ramp stand for.

    A scale without a unit belongs to a picture that needs none.
    """

    low: float
    high: float
    unit: str


STOPS = Scale(-6.0, 6.0, "stops")  # of false colour, from mid-grey


@dataclass(frozen=True)
class Show:
    """How a layer is drawn.

    Attributes
    ----------
    kind : str
        "light" gets the exposure and the view transform, "stops" is light in false colour
        (`STOPS`), "colour" gets the view transform alone,
        "direction" is a vector in colours, "numbers" a quiet colour for each number, "map" the
        ramp.
    unit : str
        The unit of a map.
    factor : float
        From the layer's values to that unit.
    most : float or None
        What the upper end of a map stands for; None where the picture says it.
    cost : bool
        The values are shares of the picture's thread time rather than amounts.
    """

    kind: Literal["light", "stops", "colour", "direction", "numbers", "map"]
    unit: str = ""
    factor: float = 1.0
    most: float | None = None
    cost: bool = False

    @property
    def takes_gain(self) -> bool:
        """Whether it can be shown brighter: a map whose end the picture says cannot."""
        return self.kind in ("light", "stops", "colour") or self.most is not None

    def scale(self, gain: float = 0.0) -> Scale | None:
        """What the ends of the ramp stand for in every picture, at a gain in stops; None where a
        picture says it, and where there is no ramp.
        """
        if self.kind == "stops":
            return STOPS
        return None if self.most is None else Scale(0.0, self.most / 2.0**gain, self.unit)


def ramp(t: NDArray[Any]) -> RGB:
    """The ramp's colours, uint8 (..., 3), for numbers from 0 (dark blue) to 1 (yellow); outside
    they are held.
    """
    t = np.clip(np.nan_to_num(np.asarray(t, float)), 0, 1)
    out = np.zeros((*t.shape, 3))
    for row in _RAMP[::-1]:
        out = out * t[..., None] + row
    return (np.clip(out, 0, 1) * 255 + 0.5).astype(np.uint8)


def from_grey(light: NDArray[Any]) -> NDArray[np.float64]:
    """Stops of linear colour from mid-grey, (..., 3) to (...); black is far below."""
    bright = np.maximum(np.nan_to_num(luminance(np.asarray(light, float))), DARKEST)
    stops: NDArray[np.float64] = np.log2(bright / GREY)
    return stops


def in_stops(light: NDArray[Any], exposure: float = 0.0) -> RGB:
    """False colour of linear light after an exposure in stops, (..., 3) to uint8 (..., 3), by the
    scale `STOPS`.
    """
    return ramp((from_grey(light) + exposure - STOPS.low) / (STOPS.high - STOPS.low))


def _round_up(x: float) -> float:
    """The next of 1, 2, 5 times a power of ten."""
    if not (x > 0 and np.isfinite(x)):
        return 1.0
    base = 10.0 ** np.floor(np.log10(x))
    return float(next(k * base for k in (1, 2, 5, 10) if x <= k * base * (1 + 1e-9)))


def _map(plane: NDArray[Any], unit: str, factor: float, scale: Scale | None) -> tuple[RGB, Scale]:
    """A plane of numbers on the ramp, by a scale, or from 0 to the 99th percentile rounded up."""
    values = np.asarray(plane, float) * factor
    finite = values[np.isfinite(values)]
    if scale is None:
        high = _round_up(float(np.percentile(finite, 99))) if finite.size else 1.0
        scale = Scale(0.0, high, unit)
    return ramp(np.where(np.isfinite(values), values, scale.high) / scale.high), scale


def layer_picture(
    plane: NDArray[Any],
    show: Show,
    exposure: float = 0.0,
    seconds: float = 0.0,
    gain: float = 0.0,
) -> tuple[RGB, Scale | None]:
    """Draw a layer as a picture.

    Parameters
    ----------
    plane : array, (H, W) or (H, W, 3)
        Linear light, a colour, a direction, or a number for each pixel.
    show : Show
        How it is to be drawn.
    exposure : float
        Stops, for light alone, in false colour too.
    seconds : float
        Thread time of the whole picture, for maps of cost.
    gain : float
        Stops, for whatever `Show.takes_gain`.

    Returns
    -------
    picture : array of uint8, (H, W, 3)
    scale : Scale or None
        What the ends of the ramp stand for; None for what is no map.
    """
    if show.kind == "map":
        factor = show.factor
        if show.cost:
            total = float(np.sum(plane, dtype=np.float64))
            factor *= seconds / total if total > 0 else 0.0
        return _map(plane, show.unit, factor, show.scale(gain))
    if show.kind == "stops":
        return in_stops(plane, exposure + gain), STOPS
    if show.kind == "numbers":
        return _colours_of_numbers(plane), None
    if show.kind == "direction":
        return ((np.clip(plane, -1, 1) * 0.5 + 0.5) * 255 + 0.5).astype(np.uint8), None
    return view(plane, gain + (exposure if show.kind == "light" else 0.0)), None


def _colours_of_numbers(plane: NDArray[Any]) -> RGB:
    """A quiet colour for each number, grey for 0."""
    n = np.asarray(plane).astype(np.uint64)
    h = (n * np.uint64(2654435761)) >> np.uint64(8)
    rgb = np.stack([(h >> np.uint64(8 * k)) & np.uint64(127) for k in range(3)], -1).astype(
        np.uint8
    ) + np.uint8(96)
    rgb[n == 0] = 0x76
    return rgb
