"""How many transparent layers lie one behind another, as a picture with its scale."""

from __future__ import annotations

import base64

import numpy as np

from mill_lane.core.formats.pictures import decode, encode
from mill_lane.core.image.maps import ramp
from mill_lane.core.weigh.analysis import Visibility

TIMES = 3  # how much larger the coarse map is drawn


def overlap_map(found: Visibility) -> bytes:
    """A PNG of the map, from none (dark) to the most there are (light)."""
    counts = decode(base64.b64decode(found.overlap), "image/png")[..., 0].astype(float)
    picture = ramp(counts / max(found.transparency_depth, 1))
    return encode(np.repeat(np.repeat(picture, TIMES, 0), TIMES, 1), "image/png")
