"""Vectors of lanes: a direction, or a colour, of each of eight paths."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from mill_lane.core.render.jit import inner
from mill_lane.core.render.lanes import root, where
from mill_lane.core.render.path_slots import SIDE
from mill_lane.core.render.side_by_side import put, take

F = np.float32


class Vec3(NamedTuple):
    """Three lanes of float32: x, y and z, or red, green and blue."""

    x: Any
    y: Any
    z: Any


@inner
def vector_at(p: Any, place: int) -> Any:
    """The vectors of eight paths whose parts stand at a place and the two after it."""
    return Vec3(take(p, place), take(p, place + SIDE), take(p, place + 2 * SIDE))


@inner
def put_vector(p: Any, place: int, a: Vec3, mask: Any) -> None:
    """Write vectors to a place and the two after it, for the paths of a mask."""
    put(p, place, a.x, mask)
    put(p, place + SIDE, a.y, mask)
    put(p, place + 2 * SIDE, a.z, mask)


@inner
def dot(a: Vec3, b: Vec3) -> Any:
    """The scalar product."""
    return a.x * b.x + a.y * b.y + a.z * b.z


@inner
def cross(a: Vec3, b: Vec3) -> Any:
    """The vector product."""
    return Vec3(a.y * b.z - a.z * b.y, a.z * b.x - a.x * b.z, a.x * b.y - a.y * b.x)


@inner
def plus(a: Vec3, b: Vec3) -> Any:
    """The sum."""
    return Vec3(a.x + b.x, a.y + b.y, a.z + b.z)


@inner
def times(a: Vec3, k: Any) -> Any:
    """Longer by a factor."""
    return Vec3(a.x * k, a.y * k, a.z * k)


@inner
def either(mask: Any, a: Vec3, b: Vec3) -> Any:
    """The first where the mask is set, the second elsewhere."""
    return Vec3(where(mask, a.x, b.x), where(mask, a.y, b.y), where(mask, a.z, b.z))


@inner
def unit(a: Vec3) -> Any:
    """The vector of length 1 along another; straight up for one of no length."""
    n = dot(a, a)
    some = n > F(0)
    k = F(1) / root(where(some, n, F(1)))
    return Vec3(where(some, a.x * k, F(0)), where(some, a.y * k, F(1)), where(some, a.z * k, F(0)))


@inner
def within(frame: Any, a: Vec3) -> Any:
    """A direction of the world in a frame of three."""
    return Vec3(dot(frame[0], a), dot(frame[1], a), dot(frame[2], a))


@inner
def out_of(frame: Any, a: Vec3) -> Any:
    """A direction in a frame of three in the world."""
    return plus(plus(times(frame[0], a.x), times(frame[1], a.y)), times(frame[2], a.z))
