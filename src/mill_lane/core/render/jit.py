"""How kernels are compiled, and where the compiled code is kept.

Numba's cache looks only at the file that a kernel stands in, not at the files it calls.  The cache
folder is therefore named after all sources of the renderer: change one and everything compiles
anew.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba

from mill_lane.core.compiled import cache_base
from mill_lane.core.render import plain, vectors
from mill_lane.core.render.linked import LinkedCompiler, NarrowCompiler

Function = Callable[..., Any]
_number: Any = numba.types.unliteral  # the type of a constant, without which constant it is
VECTORS = vectors.vectors_available()
IMPORTED = re.compile(r"^from (mill_lane[\w.]*) import (\([^)]*\)|.*)$", re.M)


def kernel_sources() -> list[Path]:
    """The files that compiled code depends on: where kernels stand, and what those import of
    ours.
    """
    package = Path(__file__).parents[2]
    found: set[Path] = set()
    waiting = [
        p for p in Path(__file__).parent.glob("*.py") if "core.render.jit import" in p.read_text()
    ]
    waiting.append(Path(__file__))
    while waiting:
        source = waiting.pop()
        if source in found:
            continue
        found.add(source)
        for module, names in IMPORTED.findall(source.read_text()):
            base = package.joinpath(*module.split(".")[1:])
            inner = [base / f"{n.strip()}.py" for n in names.strip("()").split(",")]
            waiting += [p for p in (base.with_suffix(".py"), *inner) if p.is_file()]
    return sorted(found)


def cache_folder() -> Path:
    """The folder of compiled kernels that belongs to these sources and this compiler."""
    digest = hashlib.sha256(f"{numba.__version__} {VECTORS}".encode())
    for source in kernel_sources():
        digest.update(source.read_bytes())
    return cache_base() / f"kernels-{digest.hexdigest()[:16]}"


numba.config.CACHE_DIR = str(cache_folder())  # type: ignore[attr-defined]


def kernel(function: Function | None = None, **more: Any) -> Any:
    """Compile a function:

    cached, without the interpreter lock, IEEE division, fused multiply-add allowed.
    """
    options: dict[str, Any] = {
        "cache": True,
        "nogil": True,
        "error_model": "numpy",
        "fastmath": {"contract"},
    }
    options.update(more)
    return numba.njit(**options) if function is None else numba.njit(**options)(function)


def lean(function: Function) -> Any:
    """`kernel` for functions that make no arrays:

    without reference counts, which threads would fight over.
    """
    return kernel(function, _nrt=False, pipeline_class=NarrowCompiler)


def linked(function: Function, **more: Any) -> Any:
    """Compile a function as a part of the kernels that call it; Python cannot call it.

    Whole numbers and truth values are taken as numbers, not as the constants that they are where it
    is called: or it would be compiled for each of them.
    """
    made = kernel(
        function,
        cache=False,
        _nrt=False,
        no_cpython_wrapper=True,
        no_cfunc_wrapper=True,
        pipeline_class=LinkedCompiler,
        **more,
    )
    usual = made.get_call_template
    made.get_call_template = lambda args, kws: usual([_number(a) for a in args], kws)
    return made


def inner(function: Function) -> Any:
    """`linked` for small functions in the innermost loops: their code is put where they are
    called.
    """
    return linked(function, forceinline=True)


def _chosen(name: str) -> Any:
    """The vector code of that name, or its twin compiled."""
    return getattr(vectors, name) if VECTORS else inner(getattr(plain, name))


boxes_entered, boxes_touched = _chosen("boxes_entered"), _chosen("boxes_touched")
triangles_hit, triangles_touched = _chosen("triangles_hit"), _chosen("triangles_touched")
grow, grow_by_centre, swap, fill = (
    _chosen("grow"),
    _chosen("grow_by_centre"),
    _chosen("swap"),
    _chosen("fill"),
)
