"""Saved sessions:

a file of arrays that a render goes on from, bit for bit.  No compiler is needed to look into one.
"""

from __future__ import annotations

import math
import os
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from zipfile import BadZipFile

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError

LONGEST_ABOUT = 1 << 20  # bytes
LONGEST_HEADER = 1000  # characters
MOST_ARRAYS = 500
HEADERS = {
    (1, 0): np.lib.format.read_array_header_1_0,
    (2, 0): np.lib.format.read_array_header_2_0,
}
# What arrays were called before: states that were saved then are still taken up.
EARLIER_NAMES = {"film_half_buffers": "film_halves"}


def write_state(path: Path, arrays: dict[str, Any]) -> None:
    """Write arrays under a temporary name, on to the disk, and then in one step under their own."""
    temporary = path.with_name(path.name + ".part")
    with temporary.open("wb") as f:
        np.savez(f, **arrays)
        f.flush()
        os.fsync(f.fileno())
    temporary.replace(path)


@contextmanager
def read_state(path: Path, name: str = "") -> Iterator[Any]:
    """The arrays of a saved session by name.

    Raises MillError for whatever is wrong with the file or its use.
    """
    try:
        _check_members(path)
        with np.load(path, allow_pickle=False) as state:
            yield state
    except (
        ValueError,
        KeyError,
        TypeError,
        OSError,
        EOFError,
        RuntimeError,
        BadZipFile,
        zlib.error,
    ) as e:
        raise MillError(
            f"“{name or path.name}” is no saved session, or is damaged ({e}).",
            "Save the session again, or start the render from the beginning.",
            "Nothing of it was used.",
        ) from e


def _check_members(path: Path) -> None:
    """Raise ValueError unless every array is stored plainly and as long as it says.

    Then nothing that is read takes more memory than the file takes on disk.
    """
    with zipfile.ZipFile(path) as archive:
        members = archive.infolist()
        if len(members) > MOST_ARRAYS:
            raise ValueError(f"it holds {len(members)} arrays")
        if sum(m.file_size for m in members) > path.stat().st_size:
            raise ValueError("it says it holds more than it does")
        for member in members:
            if member.compress_type != zipfile.ZIP_STORED:
                raise ValueError(f"{member.filename} is packed, which saved sessions never are")
            with archive.open(member) as f:
                read = HEADERS.get(np.lib.format.read_magic(f))
                if read is None:
                    raise ValueError(f"{member.filename} is of another edition")
                shape, _, kind = read(f, max_header_size=LONGEST_HEADER)
                if kind.hasobject or math.prod(shape) * kind.itemsize > member.file_size:
                    raise ValueError(f"{member.filename} says it is larger than it is")


def state_about(path: Path, name: str = "") -> str:
    """What a saved session says of itself (`Session.about`)."""
    with read_state(path, name) as state:
        about = state["about"]
        if about.dtype.kind != "U" or about.size != 1 or about.nbytes > LONGEST_ABOUT:
            raise ValueError("what it says of itself cannot be read")
        return str(about)


def state_key(path: Path, name: str = "") -> str:
    """Read the key under which a state was saved (`Session.key`)."""
    with read_state(path, name) as state:
        key = state["key"]
        if key.dtype.kind != "U" or key.size != 1 or key.nbytes > LONGEST_ABOUT:
            raise ValueError("its key cannot be read")
        return str(key)


def passes_of(path: Path) -> int:
    """How many whole passes a saved session has; MillError where there is none."""
    with read_state(path) as state:
        return int(state["passes"].min()) if state["passes"].size else 0


def saved_array(state: Any, name: str, own: NDArray[Any]) -> NDArray[Any]:
    """Find the saved array that belongs in the place of `own`.

    Raises
    ------
    KeyError
        Where the state has none of that name.
    ValueError
        Where it is of another size or type.
    """
    saved: NDArray[Any] = state[name if name in state else EARLIER_NAMES.get(name, name)]
    if saved.size != own.size or saved.dtype != own.dtype:
        raise ValueError(f"{name} has another size")
    return saved.reshape(own.shape)
