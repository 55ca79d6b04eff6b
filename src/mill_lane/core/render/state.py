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

from mill_lane.core.errors import MillError

LONGEST_ABOUT = 1 << 20  # bytes


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
