"""The three codecs of EXT_meshopt_compression, byte by byte (appendix A of the extension).

Attributes are deltas by byte channel in groups of 16; triangles and indices are told by what two
short memories, of edges and of vertices, hold.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Any

import numpy as np


@cache
def kernels() -> tuple[Callable[..., Any], Callable[..., Any], Callable[..., Any]]:
    """The three walks over a stream, compiled when the first compressed file is opened."""
    from mill_lane.core.compiled import compiler_of

    compiled = compiler_of(__file__)
    variable = compiled(_variable)
    push = compiled(_push)

    @compiled
    def triangles(source: Any, out: Any, version: int) -> bool:
        count = len(out)
        fec_most = 13 if version >= 1 else 15
        edges, vertices = np.zeros((16, 2), np.uint32), np.zeros(16, np.uint32)
        state = np.zeros(2, np.int64)  # how many edges and vertices were put in
        following, last = np.uint32(0), np.uint32(0)
        code, at, end = 1, 1 + count // 3, len(source) - 16
        if at > end:
            return False
        for i in range(0, count, 3):
            tri = int(source[code])
            code += 1
            if tri < 0xF0:
                e = (state[0] - 1 - (tri >> 4)) & 15
                a, b = edges[e, 0], edges[e, 1]
                fec = tri & 15
                fresh = True
                if fec < fec_most:
                    c = following
                    if fec:
                        c = vertices[(state[1] - 1 - fec) & 15]
                        fresh = False
                    else:
                        following = np.uint32(following + np.uint32(1))
                elif fec != 15:
                    last = np.uint32(np.int64(last) + (fec - (fec ^ 3)))
                    c = last
                else:
                    value, at = variable(source, at, end)
                    last = np.uint32(np.int64(last) + ((value >> 1) ^ -(value & 1)))
                    c = last
                if fresh:
                    vertices[state[1] & 15] = c
                    state[1] += 1
                push(edges, state, c, b)
                push(edges, state, a, c)
            else:
                fea = 0
                if tri < 0xFE:
                    aux = int(source[end + (tri & 15)])
                else:
                    if at >= end:
                        return False
                    aux = int(source[at])
                    at += 1
                    fea = 0 if tri == 0xFE else 15
                    if aux == 0:
                        following = np.uint32(0)
                feb, fec = aux >> 4, aux & 15
                a = following
                if fea == 0:
                    following = np.uint32(following + np.uint32(1))
                b = following if feb == 0 else vertices[(state[1] - feb) & 15]
                if feb == 0:
                    following = np.uint32(following + np.uint32(1))
                c = following if fec == 0 else vertices[(state[1] - fec) & 15]
                if fec == 0:
                    following = np.uint32(following + np.uint32(1))
                if tri >= 0xFE:
                    if fea == 15:
                        value, at = variable(source, at, end)
                        last = np.uint32(np.int64(last) + ((value >> 1) ^ -(value & 1)))
                        a = last
                    if feb == 15:
                        value, at = variable(source, at, end)
                        last = np.uint32(np.int64(last) + ((value >> 1) ^ -(value & 1)))
                        b = last
                    if fec == 15:
                        value, at = variable(source, at, end)
                        last = np.uint32(np.int64(last) + ((value >> 1) ^ -(value & 1)))
                        c = last
                vertices[state[1] & 15] = a
                state[1] += 1
                if feb == 0 or (tri >= 0xFE and feb == 15):
                    vertices[state[1] & 15] = b
                    state[1] += 1
                if fec == 0 or (tri >= 0xFE and fec == 15):
                    vertices[state[1] & 15] = c
                    state[1] += 1
                push(edges, state, b, a)
                push(edges, state, c, b)
                push(edges, state, a, c)
            out[i], out[i + 1], out[i + 2] = a, b, c
            if at < 0 or at > end:
                return False
        return True

    @compiled
    def indices(source: Any, out: Any, version: int) -> bool:
        last = np.zeros(2, np.int64)
        at, end = 1, len(source) - 4
        for i in range(len(out)):
            value, at = variable(source, at, end)
            if at < 0:
                return False
            which = value & 1
            value >>= 1
            last[which] += (value >> 1) ^ -(value & 1)
            out[i] = np.uint32(last[which] & 0xFFFFFFFF)
        return True

    return compiled(_attributes), triangles, indices


def _variable(source: Any, at: int, end: int) -> Any:
    """A number in groups of seven bits, and where the next byte is; -1 beyond the end."""
    value, shift = 0, 0
    while True:
        if at < 0 or at >= end or shift > 28:
            return 0, -1
        byte = int(source[at])
        at += 1
        value |= (byte & 127) << shift
        if byte < 128:
            return value, at
        shift += 7


def _push(edges: Any, state: Any, a: Any, b: Any) -> None:
    edges[state[0] & 15, 0], edges[state[0] & 15, 1] = a, b
    state[0] += 1


def _attributes(source: Any, out: Any) -> int:
    """Decode bytes by channel, each in groups of 16 deltas; returns how far it read, or -1."""
    count, stride = out.shape
    size = len(source)
    most = min((8192 // stride) // 16 * 16, 256)
    before = np.zeros(stride, np.uint8)
    if size < 1 + stride:
        return -1
    for k in range(stride):
        before[k] = source[size - stride + k]
    at = 1
    for start in range(0, count, most):
        n = min(most, count - start)
        groups = (n + 15) // 16
        for k in range(stride):
            head = at
            at += (groups + 3) // 4
            value = before[k]
            for g in range(groups):
                if at > size or head + g // 4 >= size:
                    return -1
                mode = (source[head + g // 4] >> np.uint8(2 * (g % 4))) & 3
                bits = 0 if mode == 0 else (2 if mode == 1 else (4 if mode == 2 else 8))
                extra = at + bits * 2
                if extra > size:
                    return -1
                for j in range(16):
                    delta = 0
                    if bits == 8:
                        delta = int(source[at + j])
                    elif bits:
                        place = j * bits
                        delta = (int(source[at + place // 8]) >> (8 - bits - place % 8)) & (
                            (1 << bits) - 1
                        )
                        if delta == (1 << bits) - 1:
                            if extra >= size:
                                return -1
                            delta = int(source[extra])
                            extra += 1
                    if g * 16 + j < n:
                        value = np.uint8((int(value) + ((delta >> 1) ^ -(delta & 1))) & 255)
                        out[start + g * 16 + j, k] = value
                at = extra
            before[k] = value
    return at
