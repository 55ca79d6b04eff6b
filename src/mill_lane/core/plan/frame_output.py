"""The files of a finished frame, under their own names; each is there once it is whole."""

from __future__ import annotations

import errno
import itertools
import os
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import write_exr
from mill_lane.core.formats.pictures import write_pixels
from mill_lane.core.image.srgb import in_bands, view
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.render.layers import exr_names

F32 = NDArray[np.float32]
Layers = Callable[[], Iterable[tuple[str, F32]]]


def write_frame(
    sheet: RunSheet,
    folder: Path,
    frame: int,
    layers: Layers,
    exposure: float,
    header: Mapping[str, Any] | None = None,
) -> list[Path]:
    """Write what a run sheet wants of a frame.

    Parameters
    ----------
    sheet : RunSheet
    folder : Path
        Of frames; folders below it are made.
    frame : int
    layers : callable
        Makes the layers anew, one after another: the beauty (H, W, 3) first, linear light, float32.
    exposure : float
        In stops, for PNG and JPEG, which get the view transform.
    header : mapping, optional
        What an EXR says of itself.

    Returns
    -------
    list of Path
        What was written.

    Raises
    ------
    MillError
        Where the folder cannot be written.
    OSError
        When the disk is full.
    """
    paths = sheet.paths(folder, frame)
    for path in paths:
        write_whole(path, lambda p: _write(sheet, p, layers, exposure, header))
    return paths


def _write(
    sheet: RunSheet,
    path: Path,
    layers: Layers,
    exposure: float,
    header: Mapping[str, Any] | None,
) -> None:
    if path.suffix == ".exr":
        wanted = layers() if sheet.layers == "all" else itertools.islice(layers(), 1)
        half, packed = sheet.exr == "half", sheet.compression
        write_exr(path, wanted, header, names=exr_names(), half=half, compression=packed)
        return
    beauty = next(iter(layers()))[1]
    shown = in_bands(lambda x: view(x, exposure), beauty)
    if path.suffix == ".png":
        write_pixels(path, shown)
    else:
        Image.fromarray(shown[..., :3]).save(path, "JPEG", quality=sheet.jpeg, subsampling=0)


def write_whole(path: Path, write: Callable[[Path], object]) -> None:
    """Write beside the name, then rename: a file that is there is whole.

    Raises
    ------
    MillError
        Where the folder cannot be made or written.
    OSError
        When the disk is full.
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise MillError(
            f"{path.parent} cannot be made: {e.strerror}.",
            "Check who may write there, then let it go on.",
            "The frame itself is kept in Mill Lane.",
        ) from e
    beside = path.with_name(f".{path.stem}.part{path.suffix}")
    try:
        write(beside)
        with beside.open("rb") as f:
            os.fsync(f.fileno())
        os.replace(beside, path)
    except OSError as e:
        if e.errno in (errno.ENOSPC, errno.EDQUOT):
            raise
        raise MillError(
            f"{path.name} cannot be written: {e.strerror}.",
            f"Check who may write to {path.parent}, then let it go on.",
            "The frame itself is kept in Mill Lane.",
        ) from e
    finally:
        beside.unlink(missing_ok=True)
