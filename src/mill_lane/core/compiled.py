"""Compiling the loops of readers, and where the compiled code is kept: beside the renderer's."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import numba
import platformdirs


def cache_base() -> Path:
    """The folder of everything that is compiled."""
    return Path(os.environ.get("MILL_LANE_CACHE") or platformdirs.user_cache_path("mill-lane"))


def compiler_of(
    module: str, uses: Iterable[str] = (), **options: Any
) -> Callable[[Callable[..., Any]], Any]:
    """A decorator that compiles functions of a module.

    module, uses : its `__file__`, and those of the modules whose compiled functions it calls: their
    contents name the folder that the code is kept in.  options : of the compiler, beside the usual.
    """
    digest = hashlib.sha256(f"{numba.__version__} {Path(module).name}".encode())
    for path in (module, *uses):
        digest.update(Path(path).read_bytes())
    folder = cache_base() / f"readers-{digest.hexdigest()[:16]}"

    def compiled(function: Callable[..., Any]) -> Any:
        # The compiler asks where to keep code at this moment, and nowhere else.
        config: Any = numba.config
        before, config.CACHE_DIR = config.CACHE_DIR, str(folder)
        try:
            return numba.njit(cache=True, nogil=True, **options)(function)
        finally:
            config.CACHE_DIR = before

    return compiled
