"""Several numbers at once, with Python's own operators: lanes of float32, uint32 or a mask.

Kernels write `x * x + y * y` over lanes as over numbers, and one instruction works on all of them;
plain loops are turned into such instructions only at the compiler's pleasure.  The number of lanes
is given where they are read: 1, 8 or 16.  One lane is the twin that tests compare the others with;
where a processor has narrower registers the compiler takes several.

A number beside lanes stands for as many of it.  Products and sums may be fused, as everywhere in
the kernels ("contract"), so that 1, 8 and 16 lanes give the same bits.
"""

from __future__ import annotations

import operator
from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba import extending, types
from numba.core import cgutils, imputils
from numba.core.typing import templates
from numba.extending import models, register_model

# Numba tells no types of its own.
intrinsic: Any = extending.intrinsic
function_of: Any = cgutils.get_or_insert_function
signature: Any = templates.signature
infer_global: Any = templates.infer_global
lower_builtin: Any = imputils.lower_builtin
AbstractTemplate: Any = templates.AbstractTemplate
I32, I64 = ir.IntType(32), ir.IntType(64)
LLVM = {"float32": ir.FloatType(), "uint32": I32, "mask": ir.IntType(1)}
FLAGS = ("contract",)


class Lanes(types.Type):
    """The type of `count` lanes of "float32", "uint32" or "mask"."""

    def __init__(self, kind: str, count: int) -> None:
        self.kind, self.count = kind, count
        super().__init__(name=f"Lanes({kind} x {count})")

    @property
    def code(self) -> Any:
        """What the compiler calls them."""
        return ir.VectorType(LLVM[self.kind], self.count)

    def of(self, kind: str) -> Lanes:
        """As many lanes of another kind."""
        return Lanes(kind, self.count)


@register_model(Lanes)
class _LanesModel(models.PrimitiveModel):
    def __init__(self, manager: Any, lanes: Lanes) -> None:
        super().__init__(manager, lanes, lanes.code)


def _is_number(x: Any) -> bool:
    return isinstance(x, types.Integer | types.Float)


def _spread(context: Any, b: Any, value: Any, kind: Any, lanes: Lanes) -> Any:
    """A number in every lane; lanes as they are."""
    if isinstance(kind, Lanes):
        return value
    number = types.float32 if lanes.kind == "float32" else types.uint32
    one = context.cast(b, value, kind, number)
    start = b.insert_element(ir.Constant(lanes.code, ir.Undefined), one, ir.Constant(I32, 0))
    places = ir.Constant(ir.VectorType(I32, lanes.count), [0] * lanes.count)
    return b.shuffle_vector(start, ir.Constant(lanes.code, ir.Undefined), places)


def _operator(
    name: Any, kinds: tuple[str, ...], code: Callable[[Any, str, Any, Any], Any], result: str = ""
) -> None:
    """Teach an operator of two lanes, or of lanes and a number."""

    def both(a: Any, c: Any) -> Lanes | None:
        lanes = a if isinstance(a, Lanes) else c
        if not isinstance(lanes, Lanes) or lanes.kind not in kinds:
            return None
        fits = (a == lanes or _is_number(a)) and (c == lanes or _is_number(c))
        return lanes if fits else None

    class Typing(AbstractTemplate):  # type: ignore[misc]
        key = name

        def generic(self, args: Any, kws: Any) -> Any:
            lanes = both(*args) if len(args) == 2 else None
            if lanes is None:
                return None
            return signature(lanes.of(result) if result else lanes, *args)

    infer_global(name)(Typing)

    def lower(context: Any, b: Any, sig: Any, args: Any) -> Any:
        lanes = both(*sig.args)
        assert lanes is not None
        x, y = (_spread(context, b, v, t, lanes) for v, t in zip(args, sig.args, strict=True))
        return code(b, lanes.kind, x, y)

    for left in (Lanes, types.Integer, types.Float):
        for right in (Lanes, types.Integer, types.Float):
            if Lanes in (left, right):
                lower_builtin(name, left, right)(lower)


def _numbers(float_name: str, whole_name: str) -> Callable[[Any, str, Any, Any], Any]:
    def code(b: Any, kind: str, x: Any, y: Any) -> Any:
        if kind == "float32":
            return getattr(b, float_name)(x, y, flags=FLAGS)
        return getattr(b, whole_name)(x, y)

    return code


def _compared(sign: str) -> Callable[[Any, str, Any, Any], Any]:
    def code(b: Any, kind: str, x: Any, y: Any) -> Any:
        if kind == "float32":
            return b.fcmp_ordered(sign, x, y)
        return b.icmp_unsigned(sign, x, y)

    return code


_NUMBERS, _BITS = ("float32", "uint32"), ("uint32", "mask")
_operator(operator.add, _NUMBERS, _numbers("fadd", "add"))
_operator(operator.sub, _NUMBERS, _numbers("fsub", "sub"))
_operator(operator.mul, _NUMBERS, _numbers("fmul", "mul"))
_operator(operator.truediv, ("float32",), _numbers("fdiv", "udiv"))
_operator(operator.and_, _BITS, _numbers("", "and_"))
_operator(operator.or_, _BITS, _numbers("", "or_"))
_operator(operator.xor, _BITS, _numbers("", "xor"))
_operator(operator.lshift, ("uint32",), _numbers("", "shl"))
_operator(operator.rshift, ("uint32",), _numbers("", "lshr"))
for _name, _sign in (("lt", "<"), ("le", "<="), ("gt", ">"), ("ge", ">=")):
    _operator(getattr(operator, _name), _NUMBERS, _compared(_sign), "mask")


def _of_lanes(name: Any, kind: str, code: Callable[[Any, Any, Any], Any]) -> None:
    """Teach an operator of lanes alone."""

    class Typing(AbstractTemplate):  # type: ignore[misc]
        key = name

        def generic(self, args: Any, kws: Any) -> Any:
            lanes = args[0] if len(args) == 1 else None
            fits = isinstance(lanes, Lanes) and lanes.kind == kind
            return signature(lanes, lanes) if fits else None

    infer_global(name)(Typing)

    def lower(context: Any, b: Any, sig: Any, args: Any) -> Any:
        return code(b, sig.args[0], args[0])

    lower_builtin(name, Lanes)(lower)


_of_lanes(operator.neg, "float32", lambda b, lanes, x: b.fneg(x))
_of_lanes(operator.invert, "mask", lambda b, lanes, x: b.not_(x))


def _vector(b: Any, pointer: Any, index: Any, lanes: Lanes) -> Any:
    return b.bitcast(b.gep(pointer, [index]), ir.PointerType(lanes.code))


@intrinsic(prefer_literal=True)
def read(typing_context: Any, pointer: Any, index: Any, count: Any) -> Any:
    """`count` numbers, a literal, from pointer[index] on, of float32 or uint32."""
    if not isinstance(count, types.IntegerLiteral):
        return None
    lanes = Lanes(str(pointer.dtype), count.literal_value)

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        return b.load(_vector(b, args[0], args[1], lanes), align=4)

    return lanes(pointer, types.int64, count), code


@intrinsic
def write(typing_context: Any, lanes: Any, pointer: Any, index: Any) -> Any:
    """Put lanes to pointer[index] and on."""

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        b.store(args[0], _vector(b, args[1], args[2], lanes), align=4)
        return context.get_dummy_value()

    return types.void(lanes, pointer, types.int64), code


@intrinsic
def u32(typing_context: Any, x: Any) -> Any:
    """Lanes of uint32 as they are; a number as one uint32, which sums and products leave."""
    if isinstance(x, Lanes):
        return x(x), lambda context, b, sig, args: args[0]

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        return context.cast(b, args[0], x, types.uint32)

    return types.uint32(x), code


@intrinsic
def alike(typing_context: Any, lanes: Any, x: Any) -> Any:
    """A number in as many lanes of float32."""
    whole = lanes.of("float32")

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        return _spread(context, b, args[1], x, whole)

    return whole(lanes, x), code


def _common(*kinds: Any) -> Any:
    """What numbers and lanes give together: lanes of as many, or float64."""
    return next((k for k in kinds if isinstance(k, Lanes)), types.float64)


def _as(context: Any, b: Any, value: Any, kind: Any, common: Any) -> Any:
    if isinstance(common, Lanes):
        return _spread(context, b, value, kind, common)
    return context.cast(b, value, kind, common)


@intrinsic
def where(typing_context: Any, mask: Any, yes: Any, no: Any) -> Any:
    """`yes` in the lanes of the mask, `no` in the others; one of them may be a number.

    For numbers, with a truth value, one of the two.
    """
    common = _common(yes, no)
    if isinstance(mask, Lanes) and not isinstance(common, Lanes):
        common = mask.of("float32")

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        a, c = (_as(context, b, args[k], sig.args[k], common) for k in (1, 2))
        return b.select(args[0], a, c)

    return common(mask, yes, no), code


def _of_one(name: str) -> Any:
    """A function of float32 lanes, or of a number, that the compiler has."""

    @intrinsic
    def function(typing_context: Any, lanes: Any) -> Any:
        common = _common(lanes)

        def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
            many = isinstance(common, Lanes)
            own = lanes.code if many else ir.DoubleType()
            x = _as(context, b, args[0], lanes, common)
            whole = f"llvm.{name}.v{lanes.count}f32" if many else f"llvm.{name}.f64"
            return b.call(function_of(b.module, ir.FunctionType(own, [own]), whole), [x])

        return common(lanes), code

    return function


root, size_of, floor_of = _of_one("sqrt"), _of_one("fabs"), _of_one("floor")


def _turned_into(kind: str, name: str) -> Any:
    @intrinsic
    def function(typing_context: Any, lanes: Any) -> Any:
        other = lanes.of(kind)

        def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
            return getattr(b, name)(args[0], other.code)

        return other(lanes), code

    return function


as_floats = _turned_into("float32", "uitofp")  # whole numbers, rounded
# The bits of float32 as uint32, and the other way round.
bits_of, from_bits = _turned_into("uint32", "bitcast"), _turned_into("float32", "bitcast")


def _chosen(sign: str) -> Any:
    @intrinsic
    def function(typing_context: Any, x: Any, y: Any) -> Any:
        common = _common(x, y)

        def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
            a, c = (_as(context, b, args[k], sig.args[k], common) for k in (0, 1))
            return b.select(b.fcmp_ordered(sign, a, c), a, c)

        return common(x, y), code

    return function


least, most = _chosen("<"), _chosen(">")


@intrinsic
def total(typing_context: Any, lanes: Any) -> Any:
    """The sum of float32 lanes in float64: halves are added to each other until one is left.

    Eight numbers of float64 are never held at once: registers of 64 bytes slow down all that comes
    after them on some processors.
    """

    def half(b: Any, x: Any, first: int, n: int) -> Any:
        return b.shuffle_vector(
            x, x, ir.Constant(ir.VectorType(I32, n), [*range(first, first + n)])
        )

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        x, n = args[0], lanes.count
        quarters = [half(b, x, first, min(n, 4)) for first in range(0, n, 4)]
        wide = [b.fpext(y, ir.VectorType(ir.DoubleType(), min(n, 4))) for y in quarters]
        while len(wide) > 1:
            wide = [b.fadd(y, z) for y, z in zip(wide[::2], wide[1::2], strict=True)]
        x, n = wide[0], min(n, 4)
        while n > 1:
            n //= 2
            x = b.fadd(half(b, x, 0, n), half(b, x, n, n))
        return b.extract_element(x, ir.Constant(I32, 0))

    return types.float64(lanes), code


@intrinsic
def bits(typing_context: Any, mask: Any) -> Any:
    """A mask as a whole number, the first lane in the lowest bit."""

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        return b.zext(b.bitcast(args[0], ir.IntType(mask.count)), I64)

    return types.int64(mask), code


@intrinsic
def lane(typing_context: Any, lanes: Any, k: Any) -> Any:
    """The number in lane k."""
    number = types.float32 if lanes.kind == "float32" else types.uint32

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        return b.extract_element(args[0], b.trunc(args[1], I32))

    return number(lanes, types.int64), code


@intrinsic
def with_lane(typing_context: Any, lanes: Any, k: Any, x: Any) -> Any:
    """The lanes with another number, float32, in lane k."""

    def code(context: Any, b: Any, sig: Any, args: Any) -> Any:
        one = context.cast(b, args[2], x, types.float32)
        return b.insert_element(args[0], one, b.trunc(args[1], I32))

    return lanes(lanes, types.int64, x), code
