"""Eight paths side by side: which of them go on, each for itself, and a number of all at once.

A batch has several such groups, which every stage goes through in turn.  Their scratch holds the
eight numbers of a place next to each other (`path_slots`).  What differs from path to path (rays,
lamps, layers) works on a path of its own, `own(p, k)`; what is the same for all works on lanes of
float32, `take` and `put`.  Which paths take part is a whole number whose bits they are.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from llvmlite import ir
from numba import extending, types

from mill_lane.core.render import path_slots
from mill_lane.core.render.jit import inner
from mill_lane.core.render.lanes import Lanes
from mill_lane.core.render.pointers import address_of, f64_at, i64_at, lowest_bit
from mill_lane.core.render.slots import *

intrinsic: Any = extending.intrinsic
F32, F64, I32, I64 = ir.FloatType(), ir.DoubleType(), ir.IntType(32), ir.IntType(64)
_pointer: Any = types.CPointer
_PD = _pointer(types.float64)
_HALF = SIDE // 2  # no more than four float64 in a register: see `lanes.total`
FLOATS, WHOLES, CHOSEN = Lanes("float32", SIDE), Lanes("uint32", SIDE), Lanes("mask", SIDE)


_group_size = inner(path_slots.group_size)


@inner
def group(w: Any, b: Any, g: int) -> Any:
    """Group g of the batch at b."""
    return f64_at(address_of(b) + 8 * g * _group_size(w[W_LAMP_COUNT]))


@inner
def masks(p: Any) -> Any:
    """Which paths of a group are where (`path_slots.M_`)."""
    return i64_at(address_of(p) + 8 * Q_MASKS)


@inner
def thread_of(q: Any) -> Any:
    """What the thread that follows a path has once (`path_slots.T_`)."""
    return f64_at(np.int64(q[Q_THREAD]))


@inner
def own(p: Any, k: int) -> Any:
    """Path k of those at p."""
    return f64_at(address_of(p) + 8 * k)


@inner
def all_of(q: Any) -> Any:
    """The paths that q is one of."""
    return f64_at(address_of(q) - 8 * number_of(q))


@inner
def number_of(q: Any) -> Any:
    """Which path q is: their scratch begins on a cache line."""
    return (address_of(q) >> 3) & (SIDE - 1)


@inner
def following(paths: int) -> Any:
    """The first of some paths, of which there is one at least, and the others."""
    return lowest_bit(np.int32(paths)), paths & (paths - 1)


@inner
def bit(k: int) -> Any:
    """Path k alone."""
    return np.int64(1) << np.int64(k)


def _halves(b: Any, p: Any, place: Any) -> list[Any]:
    """Where the two halves of a place's numbers lie."""
    kind = ir.PointerType(ir.VectorType(F64, _HALF))
    steps = (b.add(place, ir.Constant(I64, k)) for k in (0, _HALF))
    return [b.bitcast(b.gep(p, [at]), kind) for at in steps]


def _joined(b: Any, low: Any, high: Any) -> Any:
    every = ir.Constant(ir.VectorType(I32, SIDE), list(range(SIDE)))
    return b.shuffle_vector(low, high, every)


def _half(b: Any, x: Any, first: int) -> Any:
    chosen = ir.Constant(ir.VectorType(I32, _HALF), list(range(first, first + _HALF)))
    return b.shuffle_vector(x, x, chosen)


def _taken(lanes: Lanes, name: str) -> Any:
    @intrinsic
    def take(typing_context: Any, p: Any, place: Any) -> Any:
        def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
            kind = ir.VectorType(lanes.code.element, _HALF)
            convert = getattr(b, name)
            return _joined(b, *(convert(b.load(h, align=8), kind) for h in _halves(b, *args)))

        return lanes(_PD, types.int64), code

    return take


# A place's numbers of all eight paths, float32; and where they are whole numbers from 0 on, uint32.
take, take_wholes = _taken(FLOATS, "fptrunc"), _taken(WHOLES, "fptoui")


@intrinsic
def put(typing_context: Any, p: Any, place: Any, lanes: Any, paths: Any) -> Any:
    """Write a place's numbers for the paths of a mask; the others keep theirs."""
    if not isinstance(lanes, Lanes):
        return None

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        pointer, place, x, mask = args
        convert = b.fpext if lanes.kind == "float32" else b.uitofp
        kind = ir.VectorType(F64, _HALF)
        for at, first in zip(_halves(b, pointer, place), (0, _HALF), strict=True):
            new = convert(_half(b, x, first), kind)
            b.store(b.select(_half(b, mask, first), new, b.load(at, align=8)), at, align=8)
        return context.get_dummy_value()

    return types.void(_PD, types.int64, lanes, CHOSEN), code


@intrinsic
def mask_of(typing_context: Any, paths: Any) -> Any:
    """Some paths as a mask."""

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        return b.bitcast(b.trunc(args[0], ir.IntType(SIDE)), CHOSEN.code)

    return CHOSEN(types.int64), code
