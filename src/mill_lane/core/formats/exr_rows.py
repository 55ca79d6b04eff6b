"""Rows of an EXR read and written a few at a time, so that a large one needs little memory."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from mill_lane.core.disk import check_disk
from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import forget_error

F32 = NDArray[np.float32]


class ExrRows:
    """An EXR that is open for reading: its size, and its channels as they are called.

    Raises
    ------
    MillError
        For what is no EXR, or has no rows of pixels.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        found = oiio.ImageInput.open(str(path)) if path.is_file() else None
        spec = found.spec() if found is not None else None
        if found is None or spec is None or found.format_name() != "openexr" or spec.deep:
            forget_error(oiio)
            why = "deep pixels are not read" if spec and spec.deep else "damaged, or not there"
            raise MillError(
                f"{path.name} is not an EXR that can be read: {why}.", "Render or export it again."
            )
        self._input, self.spec = found, spec
        self.height, self.width = spec.height, spec.width
        self.names = tuple(spec.channelnames)
        self.parts = spec.get_int_attribute("oiio:subimages", 1)

    def planes(self, y0: int, y1: int) -> dict[str, F32]:
        """Rows y0 to y1 of every channel, float32 (y1 - y0, W).

        Raises
        ------
        MillError
            Where the file is cut short or damaged there.
        """
        spec = self.spec
        top, bottom = y0, y1
        if spec.tile_width:  # whole rows of tiles are read, then cut
            high = spec.tile_height
            top, bottom = y0 // high * high, min(-(-y1 // high) * high, spec.height)
            rows = self._input.read_tiles(
                spec.x,
                spec.x + spec.width,
                spec.y + top,
                spec.y + bottom,
                spec.z,
                spec.z + 1,
                0,
                spec.nchannels,
                oiio.FLOAT,
            )
        else:
            rows = self._input.read_scanlines(
                spec.y + top, spec.y + bottom, spec.z, 0, spec.nchannels, oiio.FLOAT
            )
        if rows is None:
            why = self._input.geterror()
            raise MillError(
                f"{self.path.name} is damaged or cut short: {why}.", "Render or export it again."
            )
        rows = np.asarray(rows).reshape(bottom - top, spec.width, spec.nchannels)
        cut = rows[y0 - top : y1 - top]
        return {name: cut[..., k] for k, name in enumerate(self.names)}

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._input.close()


class ExrCopy:
    """An EXR like another one, written row by row from the top; it is there once it is whole.

    Attributes of the file, kinds of numbers and what is not given anew stay as in the other.
    """

    def __init__(self, path: Path, like: ExrRows) -> None:
        self.path, self.like = path, like
        self._part = path.with_name(f".{path.stem}.part.exr")
        self._spec = oiio.ImageSpec(like.spec)
        self._spec.tile_width = self._spec.tile_height = self._spec.tile_depth = 0
        self._output: Any = None

    def __enter__(self) -> Self:
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._part.touch()
        except OSError as e:
            raise self._refused(e.strerror or str(e)) from e
        self._output = oiio.ImageOutput.create("exr")
        if not self._output.open(str(self._part), self._spec):
            raise self._refused(self._output.geterror())
        return self

    def write(self, y0: int, planes: Mapping[str, F32]) -> None:
        """Write the rows from `y0` on; `planes` gives every channel, float32 (rows, W)."""
        rows = np.ascontiguousarray(np.stack([planes[n] for n in self.like.names], -1), np.float32)
        first = self._spec.y + y0
        if not self._output.write_scanlines(first, first + len(rows), self._spec.z, rows):
            check_disk(self.path)
            raise self._refused(self._output.geterror())

    def __exit__(
        self, kind: type[BaseException] | None, _: BaseException | None, __: TracebackType | None
    ) -> None:
        whole = self._output is not None and self._output.close()
        if kind is None and whole:
            self._part.replace(self.path)
            return
        with contextlib.suppress(OSError):
            self._part.unlink(missing_ok=True)
        if kind is None:
            check_disk(self.path)
            raise self._refused("it could not be closed")

    def _refused(self, why: str) -> MillError:
        return MillError(
            f"{self.path} cannot be written: {why}.",
            "Choose a folder that may be written to, and see whether the disk has room.",
            "Nothing was changed.",
        )
