"""The text of OBJ files, a few megabytes at a time."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.progress import Progress, of_megabytes

BLOCK = 4 * 10**6  # bytes that are read at a time
Scan = Callable[[NDArray[np.uint8], int], int]


def blocks(path: Path) -> Iterator[bytes]:
    """Whole lines of a file; a line that ends in a backslash goes on."""
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
            yield text
            if not block:
                return


def walk(path: Path, scan: Scan, line: Callable[[bytes], None], progress: Progress) -> None:
    """Go through a file with a compiled walk.

    Parameters
    ----------
    path : Path
    scan : callable
        From bytes and where to begin, to where the next line begins that is not its own.
    line : callable
        Takes such a line.
    progress : callable
    """
    size, done = max(path.stat().st_size, 1), 0
    for text in blocks(path):
        buf = np.frombuffer(text, np.uint8)
        at = scan(buf, 0)
        while at < len(buf):
            end = text.find(b"\n", at)
            one = text[at : end if end >= 0 else len(text)]
            cut = one.find(b"\r")
            line(one[:cut] if cut >= 0 else one)
            at = scan(buf, min(at + (cut if cut >= 0 else len(one)) + 1, len(buf)))
        done += len(text)
        progress(min(done / size, 1.0), f"reading {of_megabytes(min(done, size), size)}")
