"""Functions that are compiled only as parts of the kernels that call them.

Usually each compiled function is optimised and turned into machine code with everything below it,
so that what lies deep is worked on again at every level: two thirds of the time that compiling a
deep tree takes.  What is linked has no code of its own; it goes into each kernel once, and is
optimised there.  It cannot be called from Python.

Numba is extended where it offers that: a compiler of one's own (`pipeline_class`), which hands the
function a library of one's own.
"""

from __future__ import annotations

import ctypes
import re
from typing import Any

import llvmlite.binding as llvm
from numba.core.codegen import JITCodeLibrary
from numba.core.compiler import Compiler

# What Python meets when it calls such a function: a TypeError.
_REFUSES = ctypes.cast(ctypes.pythonapi.PyErr_BadArgument, ctypes.c_void_p).value


NARROW = '"min-legal-vector-width"="0"'
DEFINED = re.compile(r"^(define [^\n]*?)((?: ![^\n]*)? \{)$", re.M)


class _NoEnvironment:
    """A code generator to whom nothing is told of a function's Python side: it has none."""

    def __init__(self, own: Any) -> None:
        self._own = own

    def __getattr__(self, name: str) -> Any:
        return getattr(self._own, name)

    def set_env(self, name: str, environment: Any) -> None:
        """Nothing."""


class NarrowLibrary(JITCodeLibrary):
    """Code that keeps to registers of 32 bytes.

    Wider ones slow down all that comes after them on some processors; left to itself the compiler
    puts two halves of eight float64 together.  Whoever takes up a function without this attribute
    loses it.
    """

    def add_ir_module(self, ir_module: Any) -> None:
        """Take up what was made of one function."""
        for function in ir_module.functions:
            set.add(function.attributes, NARROW)  # llvmlite knows no such attribute
        super().add_ir_module(ir_module)


class LinkedLibrary(NarrowLibrary):
    """Code that waits to be linked into a kernel, with what it calls itself."""

    @property
    def codegen(self) -> Any:
        """The code generator."""
        return _NoEnvironment(self._codegen)

    def finalize(self) -> None:
        """Close it, without optimising or generating anything."""
        self._raise_if_finalized()
        self._finalized = True

    def get_pointer_to_function(self, name: str) -> int | None:
        """What is called instead of it from Python."""
        return _REFUSES

    def _all_below(self, found: dict[Any, None]) -> dict[Any, None]:
        for library in self._linking_libraries:
            if library not in found:
                found[library] = None
                if isinstance(library, LinkedLibrary):
                    library._all_below(found)
        return found

    def _get_module_for_linking(self) -> Any:
        """Its own functions and all that they call, each once."""
        if self._shared_module is None:
            module = self._final_module.clone()
            for library in self._all_below({}):
                linked = isinstance(library, LinkedLibrary)
                below = library._final_module if linked else _narrow(library)
                module.link_in(below, preserve=True)
            for function in module.functions:
                if not function.is_declaration and function.linkage == llvm.Linkage.external:
                    function.linkage = "linkonce_odr"
            self._shared_module = module
        return self._shared_module


def _narrow(library: Any) -> Any:
    """What Numba has ready (`max`, …), under the same rule."""
    text = str(library._get_module_for_linking())
    return llvm.parse_assembly(DEFINED.sub(rf"\1 {NARROW}\2", text))


class NarrowCompiler(Compiler):
    """Numba's compiler, with a library of ours to put the code into."""

    library: Any = NarrowLibrary

    def compile_extra(self, function: Any) -> Any:
        """Compile a function."""
        codegen = self.state.targetctx.codegen()
        self.state.library = self.library(codegen, function.__qualname__)
        self.state.library.enable_object_caching()
        return super().compile_extra(function)


class LinkedCompiler(NarrowCompiler):
    """`NarrowCompiler` for what is only a part of kernels."""

    library = LinkedLibrary
