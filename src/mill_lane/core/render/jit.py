"""How kernels are compiled, and where the compiled code is kept.

Numba's cache looks only at the file that a kernel stands in, not at the files it calls.  The cache folder is therefore
named after all sources of the renderer: change one and everything compiles anew.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba

Function = Callable[..., Any]


def cache_folder() -> Path:
    """The folder of compiled kernels that belongs to these sources and this version of the compiler."""
    digest = hashlib.sha256(numba.__version__.encode())
    for source in sorted(Path(__file__).parent.glob("*.py")):
        digest.update(source.read_bytes())
    base = os.environ.get("MILL_LANE_CACHE") or os.path.join(
        os.environ.get("XDG_CACHE_HOME") or os.path.expanduser("~/.cache"), "mill-lane"
    )
    return Path(base) / f"kernels-{digest.hexdigest()[:16]}"


numba.config.CACHE_DIR = str(cache_folder())  # type: ignore[attr-defined]


def kernel(function: Function | None = None, **more: Any) -> Any:
    """Compile a function: cached, without the interpreter lock, IEEE division, fused multiply-add allowed."""
    options: dict[str, Any] = {"cache": True, "nogil": True, "error_model": "numpy", "fastmath": {"contract"}}
    options.update(more)
    return numba.njit(**options) if function is None else numba.njit(**options)(function)


def lean(function: Function) -> Any:
    """`kernel` for functions that make no arrays: without reference counts, which threads would fight over."""
    return kernel(function, _nrt=False)
