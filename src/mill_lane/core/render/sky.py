"""Skies: the table that a sky is sampled by, and the clear sky with its sun by time of day.

The clear sky is type 12 of CIE S 011 / ISO 15469 (CIE Standard General Sky): relative luminance by
the angles to the zenith and to the sun.  The light of sun and sky on the ground is the usual
clear-day formula of daylight practice (IESNA Lighting Handbook, chapter on daylighting;
coefficients from memory).  Its colours are ours: the sky blue where it is dark and near white round
the sun, the sun warmer the lower it stands.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.srgb import LUMA
from mill_lane.core.render.sizes import KEY_HEIGHT, KEY_WIDTH

HEIGHT, WIDTH = 128, 256
SUN_RADIUS = math.radians(0.2665)  # of its disc, seen from the earth
A, B, C, D, E = (
    -1.0,
    -0.32,
    10.0,
    -3.0,
    0.45,
)  # CIE type 12, "CIE standard clear sky, low luminance turbidity"
GROUND = 0.2  # share of the light on the ground that the ground below the horizon gives back


@dataclass(frozen=True)
class Daylight:
    """Light on level ground in klx, from the sun's rays across them and from the sky alone."""

    sun_normal: float
    sky: float

    def level(self, elevation: float) -> float:
        """Both together on level ground; elevation in radians."""
        return self.sun_normal * max(math.sin(elevation), 0.0) + self.sky


def daylight(elevation: float) -> Daylight:
    """A clear day with the sun at `elevation` radians above the horizon:

    128 klx outside the air, extinction 0.21.
    """
    if elevation <= 0:
        return Daylight(0.0, 0.8)
    # Optical air mass by Kasten and Young 1989.
    mass = 1.0 / (math.sin(elevation) + 0.50572 * (math.degrees(elevation) + 6.07995) ** -1.6364)
    return Daylight(128.0 * math.exp(-0.21 * mass), 0.8 + 15.5 * math.sqrt(math.sin(elevation)))


def clear_luminance(
    zenith: NDArray[np.float64], to_sun: NDArray[np.float64], sun_zenith: float
) -> NDArray[np.float64]:
    """Luminance of a clear sky over that of its zenith.

    Parameters
    ----------
    zenith, to_sun : array of float64
        Angles from the zenith and from the sun, radians.
    sun_zenith : float
        Angle of the sun from the zenith, radians.

    Returns
    -------
    array of float64
        f(to_sun) phi(zenith) / (f(sun_zenith) phi(0)).

    References
    ----------
    CIE S 011, "Spatial distribution of daylight: CIE standard general sky", equation 1.
    """

    def f(angle: NDArray[np.float64] | float) -> NDArray[np.float64]:
        return (
            1.0
            + C * (np.exp(D * np.asarray(angle)) - math.exp(D * math.pi / 2))
            + E * np.cos(angle) ** 2
        )

    phi = 1.0 + A * np.exp(B / np.maximum(np.cos(zenith), 1e-3))
    return np.asarray(f(to_sun) * phi / (f(sun_zenith) * (1.0 + A * math.exp(B))))


def sun_direction(elevation: float, azimuth: float) -> NDArray[np.float64]:
    """Towards the sun; radians, the azimuth counted from -Z (north) over +X (east)."""
    c = math.cos(elevation)
    return np.array([c * math.sin(azimuth), math.sin(elevation), -c * math.cos(azimuth)])


def sun_colour(elevation: float) -> NDArray[np.float64]:
    """Linear Rec.709 of luminance 1: white from about 40 degrees on, orange at the horizon."""
    t = min(max(elevation / math.radians(40), 0.0), 1.0) ** 0.5
    colour = np.array([1.0, 0.45, 0.12]) * (1 - t) + np.array([1.0, 0.96, 0.90]) * t
    return np.asarray(colour / float(colour @ np.array(LUMA)))


def clear_sky(elevation: float, azimuth: float) -> NDArray[np.float32]:
    """Radiance of a clear sky without its sun, (HEIGHT, WIDTH, 3), so that the sky alone gives
    level ground 1.
    """
    theta = (np.arange(HEIGHT) + 0.5) / HEIGHT * math.pi
    phi = (np.arange(WIDTH) + 0.5) / WIDTH * 2 * math.pi
    s, c = np.sin(theta)[:, None], np.cos(theta)[:, None]
    d = np.stack([s * np.cos(phi), np.broadcast_to(c, (HEIGHT, WIDTH)), s * np.sin(phi)], -1)
    up = d[..., 1] > 0
    to_sun = np.arccos(np.clip(d @ sun_direction(max(elevation, 0.0), azimuth), -1, 1))
    luminance = np.where(
        up,
        clear_luminance(np.minimum(theta, math.pi / 2)[:, None], to_sun, math.pi / 2 - elevation),
        0.0,
    )
    solid = (
        (np.cos(theta - math.pi / HEIGHT / 2) - np.cos(theta + math.pi / HEIGHT / 2))[:, None]
        * 2
        * math.pi
        / WIDTH
    )
    luminance /= float((luminance * solid * np.maximum(d[..., 1], 0)).sum())
    near = np.exp(-2.0 * to_sun)[..., None]
    blue = np.array([0.55, 0.93, 1.9]) * (1 - near) + np.array([1.06, 1.0, 0.86]) * near
    colour = blue / (blue @ np.array(LUMA))[..., None]
    sky = luminance[..., None] * colour
    sky[~up] = GROUND / math.pi
    return sky.astype(np.float32)


def sampling_table(
    radiance: NDArray[Any], edges: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64], float]:
    """Running sums for sampling a sky, over rows (H + 1,) and within rows (H, W + 1), and its mean
    over the sphere.

    radiance : luminance by cell, (H, W), the most that the cell holds.  edges : cosines of the
    rows' borders, (H + 1,).
    """
    share = (edges[:-1] - edges[1:])[:, None] / 2 / radiance.shape[1]  # of the sphere
    p = radiance * share
    mean = float(p.sum())
    # A trace everywhere keeps the density above zero wherever a path may look.
    p *= 0.999 / max(mean, 1e-300)
    p += share * 0.001
    rows = np.concatenate([[0], np.cumsum(p.sum(1))])
    columns = np.zeros((p.shape[0], p.shape[1] + 1))
    np.cumsum(p, 1, out=columns[:, 1:])
    columns /= columns[:, -1:]
    return rows / rows[-1], columns, mean


def picture_table(
    pixels: NDArray[np.float32],
) -> tuple[NDArray[np.float64], NDArray[np.float64], float]:
    """The sampling table of a sky picture (H, W, 3), read bilinearly:

    a cell counts with the most of its neighbours.
    """
    luma = pixels @ np.array(LUMA, np.float32)
    np.maximum(luma, np.float32(0.0), out=luma)
    most = np.maximum(np.maximum(np.roll(luma, 1, 1), np.roll(luma, -1, 1)), luma)
    upper, lower = most[:-1].copy(), most[1:].copy()
    np.maximum(most[1:], upper, out=most[1:])
    np.maximum(most[:-1], lower, out=most[:-1])
    edges = np.cos(np.pi * np.arange(luma.shape[0] + 1) / luma.shape[0])
    rows, columns, _ = sampling_table(most, edges)
    share = (edges[:-1] - edges[1:]) / 2 / luma.shape[1]
    return rows, columns, float(luma.sum(1, dtype=np.float64) @ share)


KEY_SHARPNESS = 20.0  # the key light falls to a half 15 degrees from its middle
KEY_LIGHT = 0.65  # radiance that it gives a white surface turned towards it


def even_with_key(even: tuple[float, float, float], key: tuple[float, float, float]) -> Any:
    """An even sky with a soft bright place, longitude over latitude, linear light.

    Parameters
    ----------
    even : tuple of float
        Radiance everywhere, red, green, blue.
    key : tuple of float
        Unit vector towards the bright place.

    Returns
    -------
    array of float32, (KEY_HEIGHT, KEY_WIDTH, 3)
    """
    theta = math.pi * (np.arange(KEY_HEIGHT) + 0.5)[:, None] / KEY_HEIGHT
    phi = 2 * math.pi * (np.arange(KEY_WIDTH) + 0.5)[None] / KEY_WIDTH
    x, y, z = np.sin(theta) * np.cos(phi), np.cos(theta) + 0 * phi, np.sin(theta) * np.sin(phi)
    cosine = x * key[0] + y * key[1] + z * key[2]
    # The lobe exp(k (cos - 1)) over the sphere comes to about 2 pi / k.
    bright = KEY_LIGHT * math.pi * KEY_SHARPNESS / (2 * math.pi)
    lobe = bright * np.exp(KEY_SHARPNESS * (cosine - 1.0))
    return (np.array(even) + lobe[..., None]).astype(np.float32)
