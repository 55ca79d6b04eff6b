"""Walking over the bytes of an OBJ file, compiled when the first one is opened.

Each walk goes on until a line that is the reader's to look at (a group, a material) and returns
where that begins, or the end of the bytes.  `at` is int64 (STATE,), what is carried from one call
to the next; `per_group` is int64 (G, GROUP).
"""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.compiled import compiler_of

# Of `at`: rows of each kind and faces met so far, then what pass 1 alone finds.
V, VT, VN, FACES, LARGE, COLOURED, MOST_CORNERS, RECORDS, STATUS, STATE = range(10)
# Of `per_group`: pass 1 counts, pass 3 writes triangles from TRIANGLE_AT on.
CORNERS, TRIANGLES, WITH_VT, WITH_VN, TRIANGLE_AT, RECORD_AT, GROUP = range(7)
# Of `at[STATUS]`: what is wrong, or that records need more room.
FINE, BAD_VERTEX, BAD_FACE, NO_VERTEX, OUT_V, OUT_VT, OUT_VN, FULL = range(8)
SKIP, IS_V, IS_VT, IS_VN, IS_F, OTHER = range(6)
# How the corners of a group are told apart: by their normals, their vertices, or not shared at all.
BY_NORMAL, SMOOTH, FLAT = range(3)
NONE = -1
CONCAVE = 1e-9  # share of the largest turn that a corner must turn the other way
SPACE, TAB, LF, CR, MINUS, PLUS, DOT, SLASH, HASH, ZERO = (
    ord(c) for c in (" ", "\t", "\n", "\r", "-", "+", ".", "/", "#", "0")
)
LOWER_V, LOWER_F, LOWER_T, LOWER_N, LOWER_E, LOWER_I = (ord(c) for c in "vftnei")
LARGEST = 300  # power of ten; all beyond is as good as 0 or infinite
POWERS = np.array([10.0**k for k in range(-LARGEST, LARGEST + 1)])
OTHERS = np.zeros(256, np.bool_)
OTHERS[[ord(c) for c in "ogslpumc"]] = True

compiled = compiler_of(__file__)


@compiled
def blank(c: int) -> bool:
    """Whether a byte stands between words."""
    return c in (SPACE, TAB)


@compiled
def ends(c: int) -> bool:
    """Whether a byte ends a line."""
    return c in (LF, CR)


@compiled
def past_line(buf: Any, i: int) -> int:
    """Where the next line begins."""
    while i < len(buf) and not ends(buf[i]):
        i += 1
    return i + 1


@compiled
def kind_of(buf: Any, i: int) -> tuple[int, int]:
    """What a line from `i` on is, and where its values begin (where it begins, for others)."""
    n = len(buf)
    while i < n and blank(buf[i]):
        i += 1
    if i >= n or ends(buf[i]):
        return SKIP, i
    if buf[i] == LOWER_V and i + 1 < n:
        if blank(buf[i + 1]):
            return IS_V, i + 2
        if i + 2 < n and blank(buf[i + 2]) and buf[i + 1] in (LOWER_T, LOWER_N):
            return (IS_VT if buf[i + 1] == LOWER_T else IS_VN), i + 3
        return SKIP, i
    if buf[i] == LOWER_F:
        return (IS_F, i + 2) if i + 1 < n and blank(buf[i + 1]) else (SKIP, i)
    return (OTHER, i) if OTHERS[buf[i]] else (SKIP, i)


@compiled
def next_word(buf: Any, i: int) -> int:
    """Where the next word of a line begins; -1 where it has no more."""
    while i < len(buf) and blank(buf[i]):
        i += 1
    return -1 if i >= len(buf) or ends(buf[i]) or buf[i] == HASH else i


@compiled
def past_word(buf: Any, i: int) -> int:
    """Where a word ends."""
    while i < len(buf) and not blank(buf[i]) and not ends(buf[i]):
        i += 1
    return i


@compiled
def number(buf: Any, i: int, end: int) -> tuple[float, bool]:
    """The number that a word is, and whether it is one; to 17 digits."""
    negative = buf[i] == MINUS
    if negative or buf[i] == PLUS:
        i += 1
    if i < end and (buf[i] | 32) in (LOWER_N, LOWER_I):
        return np.nan, True  # nan and inf, however they are written
    digits, power, any_digit, after = 0, 0, False, False
    while i < end:
        c = buf[i]
        if ZERO <= c < ZERO + 10:
            any_digit = True
            if digits < 10**17:
                digits = digits * 10 + (c - ZERO)
                power -= after
            else:
                power += not after
        elif c == DOT and not after:
            after = True
        else:
            break
        i += 1
    if not any_digit:
        return 0.0, False
    if i < end:
        if (buf[i] | 32) != LOWER_E:
            return 0.0, False
        exponent, i, good = whole_number(buf, i + 1, end)
        if not good or i < end:
            return 0.0, False
        power += exponent
    value = digits * POWERS[max(-LARGEST, min(power, LARGEST)) + LARGEST]
    return (-value if negative else value), True


@compiled
def whole_number(buf: Any, i: int, end: int) -> tuple[int, int, bool]:
    """A whole number, where it ends, and whether it is one; nothing at all is 0."""
    negative = i < end and buf[i] == MINUS
    if negative or (i < end and buf[i] == PLUS):
        i += 1
        if i >= end or buf[i] == SLASH:
            return 0, i, False
    value = 0
    while i < end and buf[i] != SLASH:
        c = buf[i]
        if not ZERO <= c < ZERO + 10 or value > 10**12:
            return 0, i, False
        value = value * 10 + (c - ZERO)
        i += 1
    return (-value if negative else value), i, True


@compiled
def corner(buf: Any, i: int, end: int) -> tuple[int, int, int, bool]:
    """What a corner names, as it stands there; 0 for what it does not name."""
    v, i, good = whole_number(buf, i, end)
    vt, vn = 0, 0
    if good and i < end:
        vt, i, good = whole_number(buf, i + 1, end)
        if good and i < end:
            vn, i, good = whole_number(buf, i + 1, end)
    return v, vt, vn, good


@compiled
def count(buf: Any, i: int, at: Any, per_group: Any, group: int) -> int:
    """Pass 1: how many there are of everything."""
    n = len(buf)
    while i < n:
        kind, w = kind_of(buf, i)
        if kind == OTHER:
            return w
        if kind in (IS_V, IS_F):
            words, with_vt, with_vn, w = 0, 0, 0, next_word(buf, w)
            while w >= 0:
                end = past_word(buf, w)
                words += 1
                if kind == IS_F:
                    _, vt, vn, good = corner(buf, w, end)
                    if not good:
                        at[STATUS] = BAD_FACE
                        return n
                    with_vt += vt != 0
                    with_vn += vn != 0
                w = next_word(buf, end)
            if kind == IS_V:
                at[V] += 1
                at[COLOURED] += words >= 6
            else:
                at[FACES] += 1
                at[LARGE] += words > 3
                at[MOST_CORNERS] = max(at[MOST_CORNERS], words)
                per_group[group, CORNERS] += words
                per_group[group, TRIANGLES] += max(words - 2, 0)
                per_group[group, WITH_VT] += with_vt
                per_group[group, WITH_VN] += with_vn
        elif kind in (IS_VT, IS_VN):
            at[kind - IS_V] += 1  # VT or VN
        i = past_line(buf, i)
    return n


@compiled
def row(buf: Any, w: int, out: Any, least: int) -> bool:
    """Read a row of numbers; what is missing beyond the least stays as it is."""
    k, w = 0, next_word(buf, w)
    while w >= 0 and k < len(out):
        end = past_word(buf, w)
        value, good = number(buf, w, end)
        if not good:
            return False
        out[k] = value
        k += 1
        w = next_word(buf, end)
    return k >= least


@compiled
def numbers(
    buf: Any, i: int, at: Any, positions: Any, colours: Any, places: Any, normals: Any
) -> int:
    """Pass 2: vertices, places on the texture and normals."""
    n, wide = len(buf), np.empty(6)
    while i < n:
        kind, w = kind_of(buf, i)
        if kind == OTHER:
            return w
        good = True
        if kind == IS_V:
            wide[3:] = np.nan
            good = row(buf, w, wide, 3)
            positions[at[V]] = wide[:3]
            if len(colours):
                if np.isnan(wide[5]):
                    colours[at[V]] = 1.0
                else:
                    colours[at[V]] = wide[3:]
            at[V] += 1
        elif kind == IS_VT:
            wide[1] = 0.0
            good = row(buf, w, wide[:2], 1)
            places[at[VT]] = wide[:2]
            at[VT] += 1
        elif kind == IS_VN:
            good = row(buf, w, wide[:3], 3)
            normals[at[VN]] = wide[:3]
            at[VN] += 1
        if not good:
            at[STATUS] = BAD_VERTEX
            return n
        i = past_line(buf, i)
    return n


@compiled
def resolved(named: int, before: int, most: int) -> int:
    """The row that is named, -1 for none, -2 for one that is not there; below 0 counts back."""
    if named == 0:
        return NONE
    index = named - 1 if named > 0 else before + named
    return index if 0 <= index < most else -2


@compiled
def missing(v: int, vt: int) -> int:
    """What is wrong with a corner that names something that is not there."""
    if v < 0:
        return NO_VERTEX if v == NONE else OUT_V
    return OUT_VT if vt < NONE else OUT_VN


@compiled
def bucket(v: int, vt: int, third: int, group: int, size: int) -> Any:
    """A number below `size`, a power of two, that is far from that of other corners."""
    h = np.uint64(v) * np.uint64(0x9E3779B97F4A7C15)
    h ^= np.uint64(vt + 1) * np.uint64(0xC2B2AE3D27D4EB4F)
    h ^= np.uint64(third + 1) * np.uint64(0x165667B19E3779F9)
    h ^= np.uint64(group) * np.uint64(0xD6E8FEB86659FD93)
    h ^= h >> np.uint64(32)
    return np.int64(h & np.uint64(size - 1))


@compiled
def across(positions: Any, a: int, b: int, c: int) -> tuple[float, float, float]:
    """The cross product of the edges from a vertex to two others."""
    x, y, z = np.float64(positions[a, 0]), np.float64(positions[a, 1]), np.float64(positions[a, 2])
    bx, by, bz = positions[b, 0] - x, positions[b, 1] - y, positions[b, 2] - z
    cx, cy, cz = positions[c, 0] - x, positions[c, 1] - y, positions[c, 2] - z
    return by * cz - bz * cy, bz * cx - bx * cz, bx * cy - by * cx


@compiled
def turned(positions: Any, corners: Any, n: int, normal: Any) -> bool:
    """The sum of a polygon's triangles as a fan, (3,), into `normal`; whether it is concave."""
    normal[:] = 0.0
    for k in range(1, n - 1):
        x, y, z = across(positions, corners[0], corners[k], corners[k + 1])
        normal[0], normal[1], normal[2] = normal[0] + x, normal[1] + y, normal[2] + z
    low, high = 0.0, 0.0
    for k in range(n if n > 3 else 0):
        before, after = corners[k - 1 if k else n - 1], corners[k + 1 if k + 1 < n else 0]
        x, y, z = across(positions, before, corners[k], after)
        along = x * normal[0] + y * normal[1] + z * normal[2]
        low, high = min(low, along), max(high, abs(along))
    return low < -CONCAVE * high


@compiled
def faces(
    buf: Any,
    i: int,
    at: Any,
    per_group: Any,
    group: int,
    how: int,
    totals: Any,
    positions: Any,
    into: tuple[Any, ...],
) -> int:
    """Pass 3: corners that are alike become one vertex, polygons become triangles.

    `into` are the heads of the buckets, the records, and arrays that are written: made, triangles,
    concave and corners.  Records are int32 (R,): the vertex of each vertex made, its place (or
    (0,)), its normal, the next one in its bucket, its group (or (0,), where no group comes back).
    `made` is float32 (R, 3) or (0, 3), normals of groups without any; `concave` int64 (N, 2), first
    triangle and corners of polygons that no fan fills.
    """
    n, normal = len(buf), np.empty(3)
    heads, records, made, triangles, concave, corners = into
    of_v, of_vt, of_vn, follows, owner = records
    while i < n:
        kind, w = kind_of(buf, i)
        if kind == OTHER:
            return w
        if IS_V <= kind <= IS_VN:
            at[kind - IS_V] += 1  # V, VT or VN
        elif kind == IS_F:
            if at[RECORDS] + totals[MOST_CORNERS] > len(of_v):
                at[STATUS] = FULL
                return i
            size, w = 0, next_word(buf, w)
            while w >= 0:
                end = past_word(buf, w)
                a, b, c, _ = corner(buf, w, end)
                v = resolved(a, at[V], totals[V])
                vt, vn = resolved(b, at[VT], totals[VT]), resolved(c, at[VN], totals[VN])
                if v < 0 or vt < NONE or vn < NONE:
                    at[STATUS] = (
                        NO_VERTEX
                        if v == NONE
                        else OUT_V
                        if v < 0
                        else OUT_VT
                        if vt < NONE
                        else OUT_VN
                    )
                    return n
                corners[0, size], corners[1, size], corners[2, size] = v, vt, vn
                size += 1
                w = next_word(buf, end)
            if size >= 3:
                hollow = turned(positions, corners[0], size, normal)
                first = per_group[group, TRIANGLE_AT]
                if per_group[group, RECORD_AT] < 0:
                    per_group[group, RECORD_AT] = at[RECORDS]
                begun = per_group[group, RECORD_AT]
                if hollow:
                    concave[at[LARGE], 0], concave[at[LARGE], 1] = first, size
                    at[LARGE] += 1
                for k in range(size):
                    v, vt = corners[0, k], corners[1, k]
                    third = corners[2, k] if how == BY_NORMAL else NONE
                    home = bucket(v, vt, third, group, len(heads))
                    r = heads[home] if how != FLAT else NONE
                    while r != NONE and not (
                        of_v[r] == v
                        and (len(of_vt) == 0 or of_vt[r] == vt)
                        and of_vn[r] == third
                        and (owner[r] == group if len(owner) else r >= begun)
                    ):
                        r = follows[r]
                    if r == NONE:
                        r = at[RECORDS]
                        at[RECORDS] += 1
                        of_v[r], of_vn[r] = v, third
                        if len(of_vt):
                            of_vt[r] = vt
                        if len(owner):
                            owner[r] = group
                        if how != FLAT:
                            follows[r], heads[home] = heads[home], r
                        if how != BY_NORMAL:
                            made[r] = 0.0
                    if how != BY_NORMAL:
                        for x in range(3):
                            made[r, x] += normal[x]
                    corners[2, k] = r
                for k in range(size - 2):
                    triangles[first + k, 0] = corners[2, 0]
                    triangles[first + k, 1] = corners[2, k + 1]
                    triangles[first + k, 2] = corners[2, k + 2]
                per_group[group, TRIANGLE_AT] = first + size - 2
        i = past_line(buf, i)
    return n
