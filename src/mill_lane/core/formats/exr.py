"""Multi-layer EXR with the OpenEXR reference binding: linear light, standard channel names."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
from numpy.typing import NDArray

from mill_lane.core.errors import MillError

# Channel names as the OpenEXR documentation and common use have them: R, G, B and Z bare, layers
# before a dot.
SUFFIXES = {
    "beauty": ("R", "G", "B"),
    "albedo": ("albedo.R", "albedo.G", "albedo.B"),
    "normal": ("normal.X", "normal.Y", "normal.Z"),
    "depth": ("Z",),
    "position": ("position.X", "position.Y", "position.Z"),
    "motion": ("motion.X", "motion.Y"),
    "object": ("id",),
    "samples": ("samples",),
    "noise": ("noise",),
    "work": ("work",),
}


def channel_names(layer: str, depth: int) -> tuple[str, ...]:
    """The channels of a layer of so many planes; one that is not in `SUFFIXES` is a colour or a
    number of its own name.
    """
    if layer in SUFFIXES:
        return SUFFIXES[layer]
    clean = "".join(ch if ch.isalnum() or ch in "_-" else "_" for ch in layer)
    return tuple(f"{clean}.{c}" for c in "RGB"[:depth]) if depth > 1 else (clean,)


def write_exr(
    path: Path,
    layers: Mapping[str, NDArray[np.float32]] | Iterable[tuple[str, NDArray[np.float32]]],
    header: Mapping[str, Any] | None = None,
) -> None:
    """Write layers of float32 (height, width) or (height, width, 2 or 3), named by `channel_names`,
    ZIP compressed.

    Pairs that are made one after another are let go as soon as their channels are taken.
    """
    channels = {}
    for name, plane in layers.items() if isinstance(layers, Mapping) else layers:
        planes = plane if plane.ndim == 3 else plane[..., None]
        for i, suffix in enumerate(channel_names(name, planes.shape[2])):
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
            planes = {
                k: np.asarray(c.pixels, np.float32)
                for k, c in f.channels().items()
                if c.pixels is not None
            }
    except Exception as e:  # the binding raises plain RuntimeErrors and others
        raise MillError(
            f"{path.name} is not an EXR that can be read: {e}", "Render or export it again."
        ) from e
    layers = {}
    for name, suffixes in SUFFIXES.items():
        if all(s in planes for s in suffixes):
            stack = np.stack([planes.pop(s) for s in suffixes], -1)
            layers[name] = stack if len(suffixes) > 1 else stack[..., 0]
    for name in sorted({p.rpartition(".")[0] for p in planes if p.endswith(".R")}):
        if all(f"{name}.{c}" in planes for c in "RGB"):
            layers[name] = np.stack([planes[f"{name}.{c}"] for c in "RGB"], -1)
    if "beauty" not in layers:
        raise MillError(
            f"{path.name} has no channels R, G and B.",
            "It may be cut short: render or export it again.",
        )
    return layers
