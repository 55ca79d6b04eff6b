"""Multi-layer EXR with the OpenEXR reference binding: linear light, standard channel names."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
from numpy.typing import NDArray

from mill_lane.core.errors import MillError

SUFFIXES = {
    "beauty": ("R", "G", "B"),
    "albedo": ("albedo.R", "albedo.G", "albedo.B"),
    "normal": ("normal.X", "normal.Y", "normal.Z"),
    "depth": ("Z",),
    "samples": ("samples",),
}


def write_exr(path: Path, layers: Mapping[str, NDArray[np.float32]], header: Mapping[str, Any] | None = None) -> None:
    """Write layers of float32 (height, width) or (height, width, 3), named as in `SUFFIXES`, ZIP compressed."""
    channels = {}
    for name, plane in layers.items():
        planes = plane if plane.ndim == 3 else plane[..., None]
        for i, suffix in enumerate(SUFFIXES[name]):
            # The binding writes garbage from arrays that are not contiguous, without a word.
            channels[suffix] = np.ascontiguousarray(planes[..., i], np.float32)
    head = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage, **(header or {})}
    with OpenEXR.File(head, channels) as f:
        f.write(str(path))


def read_exr(path: Path) -> dict[str, NDArray[np.float32]]:
    """Layers by name, float32 (height, width) or (height, width, 3).

    Raises MillError when the file is damaged, cut short, or holds no beauty.
    """
    try:
        with OpenEXR.File(str(path), separate_channels=True) as f:
            planes = {k: np.asarray(c.pixels, np.float32) for k, c in f.channels().items() if c.pixels is not None}
    except Exception as e:  # the binding raises plain RuntimeErrors and others
        raise MillError(f"{path.name} is not an EXR that can be read: {e}", "Render or export it again.") from e
    layers = {}
    for name, suffixes in SUFFIXES.items():
        if all(s in planes for s in suffixes):
            stack = np.stack([planes[s] for s in suffixes], -1)
            layers[name] = stack if len(suffixes) > 1 else stack[..., 0]
    if "beauty" not in layers:
        raise MillError(f"{path.name} has no channels R, G and B.", "It may be cut short: render or export it again.")
    return layers
