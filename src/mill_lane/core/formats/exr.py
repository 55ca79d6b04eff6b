"""Multi-layer EXR with the OpenEXR reference binding: linear light, standard channel names."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
import OpenImageIO as oiio
from numpy.typing import NDArray

from mill_lane.core.disk import check_disk
from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import forget_error

# The beauty's channels are bare, as the OpenEXR documentation has them; other layers stand before a
# dot, unless the caller names their channels.
BEAUTY = ("R", "G", "B")
Names = Mapping[str, tuple[str, ...]]
COMPRESSIONS = {
    "zip": OpenEXR.ZIP_COMPRESSION,
    "piz": OpenEXR.PIZ_COMPRESSION,
    "none": OpenEXR.NO_COMPRESSION,
}
# Layers whose numbers need all their bits: numbers of objects, places, depths, counts.
WHOLE = ("object", "position", "depth", "axis_depth", "samples", "work")
OWN = "millLane:"  # before attributes that the standard does not name
SAID = (
    "software",
    "chromaticities",
    "worldToCamera",
    "cameraLabel",
    "imageCounter",
    "aperture",
    "focus",
)
HALF_MOST = 65504.0  # the largest number of 16 bits (IEEE 754)


def channel_names(layer: str, depth: int, names: Names | None = None) -> tuple[str, ...]:
    """Name the channels of a layer of `depth` planes.

    A layer that `names` does not list is a colour or a number of its own name.
    """
    if layer == "beauty":
        return BEAUTY
    if names is not None and layer in names:
        return names[layer]
    safe = "".join(ch if ch.isalnum() or ch in "_-" else "_" for ch in layer)
    return tuple(f"{safe}.{c}" for c in "RGB"[:depth]) if depth > 1 else (safe,)


def write_exr(
    path: Path,
    layers: Mapping[str, NDArray[np.float32]] | Iterable[tuple[str, NDArray[np.float32]]],
    header: Mapping[str, Any] | None = None,
    names: Names | None = None,
    half: bool = False,
    compression: str = "zip",
) -> None:
    """Write layers into one EXR.

    Parameters
    ----------
    path : Path
        The file.
    layers : mapping or iterable of pairs
        Names and planes, float32, (H, W) or (H, W, 2 or 3).  Pairs that are made one after another
        are let go as soon as their channels are taken.
    header : mapping, optional
        Attributes of the file.
    names : mapping, optional
        The channels of layers that are not called by their own name.
    half : bool
        Whether numbers are kept in 16 bits, those of `WHOLE` layers excepted; what is too large for
        them becomes the largest one.
    compression : str
        One of `COMPRESSIONS`; none of them loses anything.

    Raises
    ------
    OSError
        When the disk is full.
    """
    channels: dict[str, NDArray[Any]] = {}
    for name, plane in layers.items() if isinstance(layers, Mapping) else layers:
        planes = plane if plane.ndim == 3 else plane[..., None]
        for i, suffix in enumerate(channel_names(name, planes.shape[2], names)):
            # The binding writes garbage from arrays that are not contiguous, without a word.
            channel = np.ascontiguousarray(planes[..., i], np.float32)
            if half and name not in WHOLE:
                channel = np.clip(channel, -HALF_MOST, HALF_MOST).astype(np.float16)
            channels[suffix] = channel
    head = {
        "compression": COMPRESSIONS[compression],
        "type": OpenEXR.scanlineimage,
        **(header or {}),
    }
    try:
        with OpenEXR.File(head, channels) as f:
            f.write(str(path))
        _check_whole(path)
    except Exception:
        check_disk(path)
        raise


def _check_whole(path: Path) -> None:
    """Raise MillError unless the last line can be read: the binding says nothing of one that was
    lost when the file was closed.
    """
    source = oiio.ImageInput.open(str(path))
    last = None
    if source is not None:
        spec = source.spec()
        last = source.read_scanline(spec.y + spec.height - 1, 0, oiio.FLOAT)
        source.close()
    if last is None:
        forget_error(oiio)
        raise MillError(f"{path.name} could not be written whole.", "Check the disk and try again.")


def read_exr(path: Path, names: Names | None = None) -> dict[str, NDArray[np.float32]]:
    """Read the layers of an EXR.

    Parameters
    ----------
    path : Path
        The file.
    names : mapping, optional
        The channels of layers, as `write_exr` took them.

    Returns
    -------
    dict
        Layers by name, float32, (H, W) or (H, W, 3).

    Raises
    ------
    MillError
        When the file is damaged, cut short, or holds no beauty.
    """
    return layers_of(read_planes(path), path.name, names)


def read_header(path: Path) -> dict[str, Any]:
    """What a picture that we wrote says of itself, to be said of what is made of it.

    Raises MillError when the file is damaged.
    """
    try:
        with OpenEXR.File(str(path), header_only=True) as f:
            return {k: v for k, v in f.header().items() if k in SAID or k.startswith(OWN)}
    except Exception as e:
        raise MillError(
            f"{path.name} is not an EXR that can be read: {e}", "Render or export it again."
        ) from e


def read_planes(path: Path) -> dict[str, NDArray[np.float32]]:
    """Read all channels of an EXR, by name, float32 (H, W).

    Raises MillError when the file is damaged.
    """
    try:
        with OpenEXR.File(str(path), separate_channels=True) as f:
            return {
                k: np.asarray(c.pixels, np.float32)
                for k, c in f.channels().items()
                if c.pixels is not None
            }
    except Exception as e:  # the binding raises plain RuntimeErrors and others
        raise MillError(
            f"{path.name} is not an EXR that can be read: {e}", "Render or export it again."
        ) from e


def layers_of(
    channels: Mapping[str, NDArray[np.float32]], file: str, names: Names | None = None
) -> dict[str, NDArray[np.float32]]:
    """Channels of a file as layers; see `read_exr`."""
    planes = dict(channels)
    layers = {}
    for name, suffixes in {"beauty": BEAUTY, **(names or {})}.items():
        if all(s in planes for s in suffixes):
            stack = np.stack([planes.pop(s) for s in suffixes], -1)
            layers[name] = stack if len(suffixes) > 1 else stack[..., 0]
    for name in sorted({p.rpartition(".")[0] for p in planes if p.endswith(".R")}):
        if all(f"{name}.{c}" in planes for c in "RGB"):
            layers[name] = np.stack([planes[f"{name}.{c}"] for c in "RGB"], -1)
    if "depth" not in layers and "axis_depth" in layers:  # of other programs: close enough
        layers["depth"] = layers.pop("axis_depth")
    if "beauty" not in layers:
        raise MillError(
            f"{file} has no channels R, G and B.",
            "It may be cut short: render or export it again.",
        )
    return layers
