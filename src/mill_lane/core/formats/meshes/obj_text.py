"""The text of OBJ files: blocks of lines, made into numbers a batch at a time."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.meshes.soup import Ints, damaged

NONE = -1  # a corner without a place on the texture, or without a normal
BLOCK = 8 * 10**6  # bytes that are read at a time
BATCH = 200_000  # rows that are made into numbers at a time
QUICK = {b"v ": b"v", b"vt": b"vt", b"vn": b"vn", b"f ": b"f"}


class Vertices:
    """Rows of one kind, made into numbers a batch at a time."""

    def __init__(self, name: str, wanted: int, least: int) -> None:
        self.name, self.wanted, self.least = name, wanted, least
        self.count = 0
        self._done: list[NDArray[np.float64]] = []
        self._rows: list[bytes] = []

    def add(self, rows: list[bytes]) -> None:
        """Take rows in, without their first word."""
        self._rows += rows
        self.count += len(rows)
        if len(self._rows) >= BATCH:
            self._flush()

    def _flush(self) -> None:
        self._done.append(_numbers(self.name, self._rows, self.wanted, self.least))
        self._rows = []

    def table(self) -> NDArray[np.float64]:
        """All rows, (N, columns): as many columns as any batch has."""
        if self._rows:
            self._flush()
        if not self._done:
            return np.zeros((0, self.wanted))
        width = max(t.shape[1] for t in self._done)
        same = [np.pad(t, ((0, 0), (0, width - t.shape[1])), constant_values=1) for t in self._done]
        self._done = []
        return np.concatenate(same)


class Polygons:
    """Faces, made into numbers a batch at a time: corners, how many each has, and its group."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._lines: list[bytes] = []
        self._before: list[tuple[int, int, int]] = []
        self._groups: list[int] = []
        self._done: list[tuple[Any, Any, Any]] = []

    def add(self, lines: list[bytes], before: tuple[int, int, int], group: int) -> None:
        """Take faces of a group in; `before` are the vertices, places and normals read so far."""
        self._lines += lines
        self._before += [before] * len(lines)
        self._groups += [group] * len(lines)
        if len(self._lines) >= BATCH:
            self._flush()

    def _flush(self) -> None:
        corners, counts = _corners(self.name, self._lines, self._before)
        groups = np.array(self._groups, np.int32)
        self._done.append((corners.astype(np.int32), counts.astype(np.int32), groups))
        self._lines, self._before, self._groups = [], [], []

    def table(self) -> tuple[Ints, Ints, Ints]:
        """Corners (C, 3), counts (F,) and groups (F,), group after group."""
        if self._lines or not self._done:
            self._flush()
        corners, counts, groups = (np.concatenate(x) for x in zip(*self._done, strict=True))
        self._done = []
        if (np.diff(groups) < 0).any():
            order = np.argsort(groups, kind="stable")
            first = np.cumsum(counts) - counts
            each = counts[order]
            start = np.repeat(first[order] - (np.cumsum(each) - each), each)
            corners = corners[start + np.arange(len(corners))]
            counts, groups = each, groups[order]
        return corners, counts, groups


def blocks(path: Path) -> Iterator[list[bytes]]:
    """The lines of a file, a few megabytes at a time; a line that ends in a backslash goes on."""
    left = b""
    with path.open("rb") as f:
        while True:
            block = f.read(BLOCK)
            text = left + block
            if block:
                end = text.rfind(b"\n") + 1
                while end and text[:end].rstrip(b"\r\n").endswith(b"\\"):
                    end = text.rfind(b"\n", 0, end - 1) + 1
                text, left = text[:end], text[end:]
                if not text:
                    continue
            if b"\\" in text:
                text = text.replace(b"\\\r\n", b" ").replace(b"\\\n", b" ")
            yield text.splitlines()
            if not block:
                return


def word_of(line: bytes) -> bytes:
    """The word that a line begins with."""
    return (
        line.lstrip()[:7].partition(b" ")[0].partition(b"\t")[0]
        if line[:2] not in QUICK
        else QUICK[line[:2]]
    )


def _numbers(name: str, rows: list[bytes], wanted: int, least: int) -> NDArray[np.float64]:
    """Rows of numbers, (N, least to wanted); what is missing at a row's end is 0, what is too much
    is left out.
    """
    if not rows:
        return np.zeros((0, least))
    try:
        n = len(rows[0].split())
        width = wanted if n >= wanted else max(least, 2)
        if n >= least:
            table = np.array(b" ".join(rows).split(), np.float64)
            if len(table) == n * len(rows):
                kept = table.reshape(-1, n)[:, : min(n, width)]
                return np.ascontiguousarray(
                    np.pad(kept, ((0, 0), (0, max(0, width - kept.shape[1]))))
                )
        wanted = width
        out = np.zeros((len(rows), wanted))
        for i, r in enumerate(rows):
            words = r.split()[:wanted]
            if len(words) < least:
                raise ValueError(r)
            out[i, : len(words)] = [float(x) for x in words]
        return out
    except (ValueError, OverflowError) as e:
        raise damaged(name, "a vertex is not made of numbers") from e


def _corners(
    name: str, lines: list[bytes], before: list[tuple[int, int, int]]
) -> tuple[Ints, Ints]:
    """Every corner as (vertex, place, normal), counted from 0, -1 for none, (C, 3); and the corners
    of each face.

    `before` tells for each line how many vertices, places and normals were read before it.
    """
    words = [line.split(b"#")[0].split() for line in lines]
    counts = np.array([len(w) for w in words], np.int64)
    flat = [w for row in words for w in row]
    try:
        slashes = flat[0].count(b"/") if flat else 0
        if flat and slashes < 3 and all(w.count(b"/") == slashes and b"//" not in w for w in flat):
            numbers = np.array(b"/".join(flat).split(b"/"), np.int64).reshape(
                len(flat), slashes + 1
            )
        else:
            numbers = np.zeros((len(flat), 3), np.int64)
            for i, w in enumerate(flat):
                pieces = [int(x) if x else 0 for x in w.split(b"/")]
                numbers[i, : min(len(pieces), 3)] = pieces[:3]
    except (ValueError, OverflowError) as e:
        raise damaged(name, "a face is not made of whole numbers") from e
    out = np.zeros((len(flat), 3), np.int64)
    out[:, : numbers.shape[1]] = numbers
    if (out[:, 0] == 0).any():
        raise damaged(name, "a corner of a face names no vertex")
    # From 1 on they count from the start of the file, below 0 back from the line they stand in.
    base = np.repeat(np.array(before, np.int64).reshape(-1, 3), counts, 0)
    return np.where(out > 0, out - 1, np.where(out < 0, base + out, NONE)), counts
