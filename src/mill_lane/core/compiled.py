"""Compiling the loops of readers, and where the compiled code is kept: beside the renderer's."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba
import platformdirs


def cache_base() -> Path:
    """The folder of everything that is compiled."""
    return Path(os.environ.get("MILL_LANE_CACHE") or platformdirs.user_cache_path("mill-lane"))


def compiler_of(module: str) -> Callable[[Callable[..., Any]], Any]:
    """A decorator that compiles functions of a module, which call none outside it.

    module : its `__file__`, whose contents name the folder that the code is kept in.
    """
    digest = hashlib.sha256(f"{numba.__version__} {Path(module).name}".encode())
    digest.update(Path(module).read_bytes())
    folder = cache_base() / f"readers-{digest.hexdigest()[:16]}"

    def compiled(function: Callable[..., Any]) -> Any:
        # The compiler asks where to keep code at this moment, and nowhere else.
        config: Any = numba.config
        before, config.CACHE_DIR = config.CACHE_DIR, str(folder)
        try:
            return numba.njit(cache=True, nogil=True)(function)
        finally:
            config.CACHE_DIR = before

    return compiled
