"""Saved sessions:

a file of arrays that a render goes on from, bit for bit.  No compiler is needed to look into one.
"""

from __future__ import annotations

import os
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
        with np.load(path, allow_pickle=False) as state:
            if not hasattr(state, "files"):
                raise ValueError("it is a single array")
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
        return str(state["key"])


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
