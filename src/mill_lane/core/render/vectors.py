"""Eight numbers at once, where rays meet boxes and triangles, and where hierarchies are built.

Plain loops over eight boxes are not turned into vector instructions by themselves, so the two
innermost tests of the renderer and the few lines that the builder repeats for every triangle are
written here as LLVM code.  Each has a twin in `plain.py` with the same name and arguments; tests
compare the two, and where the processor has no fused multiply-add, or MILL_LANE_SCALAR is set, the
twins are used.
"""

from __future__ import annotations

import os
from typing import Any

import llvmlite.binding as llvm
from llvmlite import ir
from numba import extending, types
from numba.core import cgutils

intrinsic: Any = extending.intrinsic
WIDTH = 8
F32, I32, I64 = ir.FloatType(), ir.IntType(32), ir.IntType(64)
_V, _VI = ir.VectorType(F32, WIDTH), ir.VectorType(I32, WIDTH)
_PF = types.CPointer(types.float32)


def vectors_available() -> bool:
    """Whether the vector code can be used:

    wanted, and the processor multiplies and adds in one step.
    """
    if os.environ.get("MILL_LANE_SCALAR"):
        return False
    try:
        features = llvm.get_host_cpu_features()
    except RuntimeError:
        return False
    return bool(features.get("fma") or features.get("neon") or features.get("fp-armv8"))


def _call(b: Any, name: str, *args: Any) -> Any:
    kind = ir.FunctionType(_V, [_V] * len(args))
    return b.call(
        cgutils.get_or_insert_function(b.module, kind, f"llvm.{name}.v{WIDTH}f32"), list(args)
    )


def _load(b: Any, pointer: Any, index: Any) -> Any:
    return b.load(b.bitcast(b.gep(pointer, [index]), ir.PointerType(_V)), align=4)


def _store(b: Any, value: Any, pointer: Any, index: Any) -> None:
    b.store(value, b.bitcast(b.gep(pointer, [index]), ir.PointerType(_V)), align=4)


def _splat(b: Any, number: Any) -> Any:
    undefined = ir.Constant(_V, ir.Undefined)
    one = b.insert_element(undefined, number, ir.Constant(I32, 0))
    return b.shuffle_vector(one, undefined, ir.Constant(_VI, [0] * WIDTH))


def _least(b: Any, x: Any, y: Any) -> Any:
    return b.select(b.fcmp_ordered("<", x, y), x, y)


def _most(b: Any, x: Any, y: Any) -> Any:
    return b.select(b.fcmp_ordered(">", x, y), x, y)


def _mask(b: Any, bits: Any) -> Any:
    return b.zext(b.bitcast(bits, ir.IntType(WIDTH)), I32)


def _int(n: int) -> Any:
    return ir.Constant(I64, n)


def _entered(b: Any, args: Any) -> tuple[Any, Any]:
    """(where each box is entered, which are), as vectors."""
    p, base, nx, ny, nz, ix, iy, iz, ox, oy, oz, limit = args
    near, far = _splat(b, ir.Constant(F32, 0.0)), _splat(b, limit)
    for axis, (n, i, o) in enumerate(((nx, ix, ox), (ny, iy, oy), (nz, iz, oz))):
        inverse, origin = _splat(b, i), _splat(b, o)
        first = b.add(base, b.add(n, _int(axis * 2 * WIDTH)))
        second = b.add(base, b.sub(_int((axis * 2 + 1) * WIDTH), n))
        near = _most(b, b.fmul(b.fsub(_load(b, p, first), origin), inverse), near)
        far = _least(b, b.fmul(b.fsub(_load(b, p, second), origin), inverse), far)
    far = b.fmul(far, _splat(b, ir.Constant(F32, 1.0000004768371582)))
    return near, b.fcmp_ordered("<=", near, far)


@intrinsic
def boxes_entered(
    typing_context: Any,
    nodes: Any,
    base: Any,
    near_x: Any,
    near_y: Any,
    near_z: Any,
    ix: Any,
    iy: Any,
    iz: Any,
    ox: Any,
    oy: Any,
    oz: Any,
    limit: Any,
    lanes: Any,
) -> Any:
    """Which of a node's eight boxes a ray enters before `limit`, as a bit mask; where it does goes
    to lanes[0:8].

    `near_x` is 0 where the ray runs along +x and 8 where it runs along -x: the planes that it meets
    first stand there. i is the inverse direction, o the origin.  Boxes are dilate by two units in
    the last place, so that no edge between two of them is missed.
    """

    def code(context: Any, b: Any, signature: Any, args: Any) -> Any:
        near, inside = _entered(b, args[:12])
        _store(b, near, args[12], _int(0))
        return _mask(b, inside)

    return types.int32(_PF, *[types.int64] * 4, *[types.float32] * 7, _PF), code


@intrinsic
def boxes_touched(
    typing_context: Any,
    nodes: Any,
    base: Any,
    near_x: Any,
    near_y: Any,
    near_z: Any,
    ix: Any,
    iy: Any,
    iz: Any,
    ox: Any,
    oy: Any,
    oz: Any,
    limit: Any,
) -> Any:
    """`boxes_entered` for rays that only ask whether there is anything: the mask alone."""

    def code(context: Any, b: Any, signature: Any, args: Any) -> Any:
        return _mask(b, _entered(b, args)[1])

    return types.int32(_PF, *[types.int64] * 4, *[types.float32] * 7), code


def _corners_against_ray(b: Any, args: Any) -> tuple[Any, ...]:
    """(u, v, total, distance along the normal, slope of the ray along it, inside) of eight
    triangles, as vectors.
    """
    p, base, ox, oy, oz, dx, dy, dz = args
    o, d = [_splat(b, x) for x in (ox, oy, oz)], [_splat(b, x) for x in (dx, dy, dz)]

    def corner(k: int) -> list[Any]:
        return [b.fsub(_load(b, p, b.add(base, _int((3 * k + i) * WIDTH))), o[i]) for i in range(3)]

    def minus(x: list[Any], y: list[Any]) -> list[Any]:
        return [b.fsub(x[i], y[i]) for i in range(3)]

    def plus(x: list[Any], y: list[Any]) -> list[Any]:
        return [b.fadd(x[i], y[i]) for i in range(3)]

    def cross(x: list[Any], y: list[Any]) -> list[Any]:
        return [
            _call(b, "fma", x[i], y[j], b.fneg(b.fmul(x[j], y[i])))
            for i, j in ((1, 2), (2, 0), (0, 1))
        ]

    def dot(x: list[Any], y: list[Any]) -> Any:
        return _call(b, "fma", x[0], y[0], _call(b, "fma", x[1], y[1], b.fmul(x[2], y[2])))

    v0, v1, v2 = corner(0), corner(1), corner(2)
    e0, e1, e2 = minus(v2, v0), minus(v0, v1), minus(v1, v2)
    u = dot(cross(e0, plus(v2, v0)), d)
    v = dot(cross(e1, plus(v0, v1)), d)
    w = dot(cross(e2, plus(v1, v2)), d)
    total = b.fadd(b.fadd(u, v), w)
    slack = b.fmul(_call(b, "fabs", total), _splat(b, ir.Constant(F32, 2.0**-17)))
    inside = b.or_(
        b.fcmp_ordered(">=", _least(b, _least(b, u, v), w), b.fneg(slack)),
        b.fcmp_ordered("<=", _most(b, _most(b, u, v), w), slack),
    )
    n = cross(e2, e1)
    return u, v, total, dot(v0, n), dot(n, d), inside


@intrinsic
def triangles_hit(
    typing_context: Any,
    leaves: Any,
    base: Any,
    ox: Any,
    oy: Any,
    oz: Any,
    dx: Any,
    dy: Any,
    dz: Any,
    limit: Any,
    lanes: Any,
) -> Any:
    """Which of a block's eight triangles a ray hits with 0 < t < limit; t, u, v go to lanes[0:24].

    Signed volumes of the edges against the ray (Pluecker coordinates): two triangles that share an
    edge compute the same number for it, so that nothing gets through between them; each is taken a
    hundred-thousandth wider, since where many edges meet in a corner their signs need not agree.  u
    and v weigh the second and third corner.
    """

    def code(context: Any, b: Any, signature: Any, args: Any) -> Any:
        u, v, total, along, slope, inside = _corners_against_ray(b, args[:8])
        limit, lanes = args[8], args[9]
        t = b.fdiv(along, slope)
        scale = b.fdiv(_splat(b, ir.Constant(F32, 1.0)), total)
        # A triangle without area gives 0 / 0 here, and no comparison with that holds.
        zero = _splat(b, ir.Constant(F32, 0.0))
        inside = b.and_(
            inside, b.and_(b.fcmp_ordered(">", t, zero), b.fcmp_ordered("<", t, _splat(b, limit)))
        )
        for k, x in enumerate((t, b.fmul(u, scale), b.fmul(v, scale))):
            _store(b, x, lanes, _int(k * WIDTH))
        return _mask(b, inside)

    return types.int32(_PF, types.int64, *[types.float32] * 7, _PF), code


@intrinsic
def triangles_touched(
    typing_context: Any,
    leaves: Any,
    base: Any,
    ox: Any,
    oy: Any,
    oz: Any,
    dx: Any,
    dy: Any,
    dz: Any,
    limit: Any,
) -> Any:
    """`triangles_hit` for rays that only ask whether there is anything:

    the mask alone, without a division.
    """

    def code(context: Any, b: Any, signature: Any, args: Any) -> Any:
        _, _, _, along, slope, inside = _corners_against_ray(b, args[:8])
        # 0 < along / slope < limit, both sides times the slope squared.
        product = b.fmul(along, slope)
        most = b.fmul(_splat(b, args[8]), b.fmul(slope, slope))
        zero = _splat(b, ir.Constant(F32, 0.0))
        return _mask(
            b,
            b.and_(
                inside,
                b.and_(b.fcmp_ordered(">", product, zero), b.fcmp_ordered("<", product, most)),
            ),
        )

    return types.int32(_PF, types.int64, *[types.float32] * 7), code


@intrinsic
def grow(typing_context: Any, box: Any, i: Any, other: Any, j: Any) -> Any:
    """box[i:i+8] = min(box[i:i+8], other[j:j+8]): boxes are kept as minimum and negated maximum."""

    def code(context: Any, b: Any, signature: Any, args: Any) -> Any:
        box, i, other, j = args
        _store(b, _least(b, _load(b, other, j), _load(b, box, i)), box, i)
        return context.get_dummy_value()

    return types.void(_PF, types.int64, _PF, types.int64), code


@intrinsic
def grow_by_centre(typing_context: Any, box: Any, i: Any, other: Any, j: Any) -> Any:
    """Take twice the centre of a box, as (x, y, z, -x, -y, -z), into box[i:i+8]."""

    def code(context: Any, b: Any, signature: Any, args: Any) -> Any:
        box, i, other, j = args
        x = _load(b, other, j)
        turned = b.shuffle_vector(x, x, ir.Constant(_VI, [3, 4, 5, 0, 1, 2, 6, 7]))
        _store(b, _least(b, b.fsub(x, turned), _load(b, box, i)), box, i)
        return context.get_dummy_value()

    return types.void(_PF, types.int64, _PF, types.int64), code


@intrinsic
def swap(typing_context: Any, pointer: Any, i: Any, j: Any) -> Any:
    """Exchange pointer[i:i+8] and pointer[j:j+8]."""

    def code(context: Any, b: Any, signature: Any, args: Any) -> Any:
        p, i, j = args
        x, y = _load(b, p, i), _load(b, p, j)
        _store(b, y, p, i)
        _store(b, x, p, j)
        return context.get_dummy_value()

    return types.void(_PF, types.int64, types.int64), code


@intrinsic
def fill(typing_context: Any, pointer: Any, i: Any, x: Any) -> Any:
    """pointer[i:i+8] = x."""

    def code(context: Any, b: Any, signature: Any, args: Any) -> Any:
        _store(b, _splat(b, args[2]), args[0], args[1])
        return context.get_dummy_value()

    return types.void(_PF, types.int64, types.float32), code
