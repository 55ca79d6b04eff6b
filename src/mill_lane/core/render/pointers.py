"""Memory by its address, and numbers by their bits: the few words that the compiler lacks.

Kernels get arrays as addresses (int64), so that a call passes a few numbers instead of dozens of
array descriptions.  Whoever calls keeps the arrays alive.
"""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import extending, types
from numba.core import cgutils

intrinsic: Any = extending.intrinsic
F32, F64, I32, I64 = ir.FloatType(), ir.DoubleType(), ir.IntType(32), ir.IntType(64)
LINES = range(4)  # of 64 bytes: a node, and all but the numbers of a block
_PF, _PD = types.CPointer(types.float32), types.CPointer(types.float64)


def _pointer_from_address(numba_type: Any, llvm_type: Any) -> Any:
    @intrinsic
    def at(typing_context: Any, address: Any) -> Any:
        def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            return builder.inttoptr(args[0], ir.PointerType(llvm_type))

        return types.CPointer(numba_type)(types.int64), code

    return at


# An address as a pointer to numbers of one kind.
f32_at = _pointer_from_address(types.float32, F32)
f64_at = _pointer_from_address(types.float64, F64)
i32_at = _pointer_from_address(types.int32, I32)
i64_at = _pointer_from_address(types.int64, I64)
u64_at = _pointer_from_address(types.uint64, I64)
u32_at = _pointer_from_address(types.uint32, I32)
u16_at = _pointer_from_address(types.uint16, ir.IntType(16))
u8_at = _pointer_from_address(types.uint8, ir.IntType(8))


@intrinsic
def address_of(typing_context: Any, pointer: Any) -> Any:
    """The address of a float64 pointer, int64."""

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.ptrtoint(args[0], I64)

    return types.int64(_PD), code


@intrinsic
def as_i32(typing_context: Any, pointer: Any) -> Any:
    """The same memory read as int32: node links and triangle numbers lie between the floats."""

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.bitcast(args[0], ir.PointerType(I32))

    return types.CPointer(types.int32)(_PF), code


@intrinsic
def float_bits(typing_context: Any, x: Any) -> Any:
    """The 32 bits of a float32; for numbers from 0 on they sort as the numbers do."""

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        return builder.zext(builder.bitcast(args[0], I32), I64)

    return types.uint64(types.float32), code


@intrinsic
def lowest_bit(typing_context: Any, mask: Any) -> Any:
    """The place of the lowest set bit of a mask that is not 0."""

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        kind = ir.FunctionType(I32, [I32, ir.IntType(1)])
        count = cgutils.get_or_insert_function(builder.module, kind, "llvm.cttz.i32")
        return builder.zext(builder.call(count, [args[0], ir.Constant(ir.IntType(1), 1)]), I64)

    return types.int64(types.int32), code


def _ask(b: Any, pointer: Any, index: Any) -> None:
    """Ask for the line of pointer[index]."""
    byte = ir.PointerType(ir.IntType(8))
    kind = ir.FunctionType(ir.VoidType(), [byte, I32, I32, I32])
    ask = cgutils.get_or_insert_function(b.module, kind, "llvm.prefetch.p0i8")
    at = b.bitcast(b.gep(pointer, [index]), byte)
    b.call(ask, [at, ir.Constant(I32, 0), ir.Constant(I32, 3), ir.Constant(I32, 1)])


@intrinsic
def fetch_line(typing_context: Any, pointer: Any, index: Any) -> Any:
    """Ask for the 64 bytes round pointer[index], which will be read soon; nothing waits for
    them.
    """

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        _ask(builder, *args)
        return context.get_dummy_value()

    return types.none(pointer, types.int64), code


@intrinsic
def fetch_ahead(typing_context: Any, pointer: Any, index: Any) -> Any:
    """Ask for the 256 bytes from pointer[index] on, which will be read soon; nothing waits for
    them.
    """

    def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        for line in LINES:
            _ask(builder, args[0], builder.add(args[1], ir.Constant(I64, 16 * line)))
        return context.get_dummy_value()

    return types.none(_PF, types.int64), code
