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
# Boxes are taken wider than they are, by a share of the distance and by one of the origin's
# coordinate, which is what rounding can take from a plane's distance.
WIDER, SLACK = 1.0 + 2.0**-21, 2.0**-22


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


def _scalar_fabs(b: Any) -> Any:
    return cgutils.get_or_insert_function(b.module, ir.FunctionType(F32, [F32]), "llvm.fabs.f32")


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
    """(where each box is entered, which are), as vectors.

    A plane's distance is plane x inverse - origin x inverse, one multiply-add; what does not depend
    on the node is put before the loop by the compiler.
    """
    p, base, nx, ny, nz, ix, iy, iz, ox, oy, oz, limit = args
    near, far = [_splat(b, ir.Constant(F32, 0.0))], [_splat(b, limit)]
    for axis, (n, i, o) in enumerate(((nx, ix, ox), (ny, iy, oy), (nz, iz, oz))):
        away = b.fmul(i, ir.Constant(F32, WIDER))
        slack = b.fmul(b.call(_scalar_fabs(b), [b.fmul(o, i)]), ir.Constant(F32, SLACK))
        first = b.add(base, b.add(n, _int(axis * 2 * WIDTH)))
        second = b.add(base, b.sub(_int((axis * 2 + 1) * WIDTH), n))
        start = _splat(b, b.fneg(b.fadd(b.fmul(o, i), slack)))
        end = _splat(b, b.fsub(slack, b.fmul(o, away)))
        near.append(_call(b, "fma", _load(b, p, first), _splat(b, i), start))
        far.append(_call(b, "fma", _load(b, p, second), _splat(b, away), end))
    # In pairs: the chain of what waits for the one before is shorter by one.
    entry = _most(b, _most(b, near[1], near[2]), _most(b, near[3], near[0]))
    leave = _least(b, _least(b, far[1], far[2]), _least(b, far[3], far[0]))
    return entry, b.fcmp_ordered("<=", entry, leave)


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
    first stand there. i is the inverse direction, o the origin.  Boxes are taken wider by what
    rounding can take from them, so that no edge between two of them is missed.
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
    """(weights of the second and third corner times the total, total, distance times the total,
    inside) of eight triangles, as vectors.

    The corners are moved and sheared so that the ray runs along the last axis from 0 on; what is
    left is whether 0 lies in a flat triangle (Woop, Benthin and Wald 2013, "Watertight ray/triangle
    intersection", from memory).
    """
    p, base, x, y, z, ox, oy, oz, sx, sy, sz = args
    origin = [_splat(b, o) for o in (ox, oy, oz)]
    across, up, along = _splat(b, b.fneg(sx)), _splat(b, b.fneg(sy)), _splat(b, sz)

    def corner(k: int) -> list[Any]:
        at = [b.add(base, b.add(axis, _int(3 * WIDTH * k))) for axis in (x, y, z)]
        cx, cy, cz = [b.fsub(_load(b, p, i), o) for i, o in zip(at, origin, strict=True)]
        return [_call(b, "fma", cz, across, cx), _call(b, "fma", cz, up, cy), cz]

    def edge(i: list[Any], j: list[Any]) -> Any:
        # With what rounding took from the second product: the sign is right however close, so that
        # of two triangles at an edge one has the ray.
        second = b.fmul(i[1], j[0])
        lost = _call(b, "fma", i[1], j[0], b.fneg(second))
        return b.fsub(_call(b, "fma", i[0], j[1], b.fneg(second)), lost)

    v0, v1, v2 = corner(0), corner(1), corner(2)
    u, v, w = edge(v2, v1), edge(v0, v2), edge(v1, v0)
    total = b.fadd(b.fadd(u, v), w)
    slack = b.fmul(_call(b, "fabs", total), _splat(b, ir.Constant(F32, 2.0**-17)))
    inside = b.or_(
        b.fcmp_ordered(">=", _least(b, _least(b, u, v), w), b.fneg(slack)),
        b.fcmp_ordered("<=", _most(b, _most(b, u, v), w), slack),
    )
    depth = _call(b, "fma", u, v0[2], _call(b, "fma", v, v1[2], b.fmul(w, v2[2])))
    return v, w, total, b.fmul(depth, along), inside


@intrinsic
def triangles_hit(
    typing_context: Any,
    leaves: Any,
    base: Any,
    x: Any,
    y: Any,
    z: Any,
    ox: Any,
    oy: Any,
    oz: Any,
    sx: Any,
    sy: Any,
    sz: Any,
    limit: Any,
    lanes: Any,
) -> Any:
    """Which of a block's eight triangles a ray hits with 0 < t < limit; t, u, v go to lanes[0:24].

    x, y and z are where in a block the axes begin, the steepest of the ray last; o is its origin, s
    the shear, all in that order (`mesh_rays.sheared`).  Two triangles that share an edge compute
    the same number for it, so that nothing gets through between them; each is taken a
    hundred-thousandth wider, since where many edges meet in a corner their signs need not agree.  u
    and v weigh the second and third corner.
    """

    def code(context: Any, b: Any, signature: Any, args: Any) -> Any:
        v, w, total, depth, inside = _corners_against_ray(b, args[:11])
        limit, lanes = args[11], args[12]
        # A triangle without area gives 0 / 0 here, and no comparison with that holds.
        scale = b.fdiv(_splat(b, ir.Constant(F32, 1.0)), total)
        t = b.fmul(depth, scale)
        zero = _splat(b, ir.Constant(F32, 0.0))
        inside = b.and_(
            inside, b.and_(b.fcmp_ordered(">", t, zero), b.fcmp_ordered("<", t, _splat(b, limit)))
        )
        for k, number in enumerate((t, b.fmul(v, scale), b.fmul(w, scale))):
            _store(b, number, lanes, _int(k * WIDTH))
        return _mask(b, inside)

    return types.int32(_PF, *[types.int64] * 4, *[types.float32] * 7, _PF), code


@intrinsic
def triangles_touched(
    typing_context: Any,
    leaves: Any,
    base: Any,
    x: Any,
    y: Any,
    z: Any,
    ox: Any,
    oy: Any,
    oz: Any,
    sx: Any,
    sy: Any,
    sz: Any,
    limit: Any,
) -> Any:
    """`triangles_hit` for rays that only ask whether there is anything:

    the mask alone, without a division.
    """

    def code(context: Any, b: Any, signature: Any, args: Any) -> Any:
        _, _, total, depth, inside = _corners_against_ray(b, args[:11])
        # 0 < depth / total < limit, both sides times the total squared.
        product = b.fmul(depth, total)
        most = b.fmul(_splat(b, args[11]), b.fmul(total, total))
        zero = _splat(b, ir.Constant(F32, 0.0))
        return _mask(
            b,
            b.and_(
                inside,
                b.and_(b.fcmp_ordered(">", product, zero), b.fcmp_ordered("<", product, most)),
            ),
        )

    return types.int32(_PF, *[types.int64] * 4, *[types.float32] * 7), code


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
