"""A folder of files that can be made again: what took long to work out, kept for the next time.

A file ends with a mark that says what it is.  It is written under a temporary name, synced, and
renamed; what is damaged or of another edition is made anew.  What is used least recently goes.
"""

from __future__ import annotations

import contextlib
import os
import tempfile
import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from numpy.typing import NDArray

MARK = 64  # bytes at the end of a file
MOST_BYTES = 20 * 10**9  # that are kept; the ones used least recently go
LEAST_FREE = 2 * 10**9  # bytes of the disk that are left to everything else
BROKEN_AFTER = 3600.0  # seconds after which nobody is still writing a piece


class Shelf:
    """A folder of files with marks.

    Parameters
    ----------
    folder : Path
        It is made when it is needed.
    most_bytes : int
        That are kept.
    """

    def __init__(self, folder: Path, most_bytes: int = MOST_BYTES) -> None:
        self.folder, self.most_bytes = folder, most_bytes
        self._counting = threading.Lock()
        self.used: set[str] = set()
        self.mapped_bytes = 0  # that were mapped through this shelf

    @contextlib.contextmanager
    def opened(self, name: str, mark: bytes, size: int | None = None) -> Iterator[int | None]:
        """A whole file with its mark, opened for reading, or None; `size` is without the mark.

        What has another mark or size is removed.
        """
        self.used.add(name)
        path = self.folder / name
        try:
            with path.open("rb") as f:
                there = os.fstat(f.fileno()).st_size - MARK
                whole = there == size if size is not None else there > 0
                if not whole or os.pread(f.fileno(), MARK, there) != mark:
                    path.unlink(missing_ok=True)
                    yield None
                    return
                os.utime(path)
                yield f.fileno()
        except FileNotFoundError:
            yield None

    def count(self, size: int) -> None:
        """Note that so many bytes were mapped."""
        with self._counting:
            self.mapped_bytes += size

    def put(self, name: str, mark: bytes, arrays: Sequence[NDArray[Any]]) -> bool:
        """Write arrays and a mark, unless the disk is short of room or cannot be written."""
        temporary: Path | None = None
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            disk = os.statvfs(self.folder)
            if disk.f_bavail * disk.f_frsize < LEAST_FREE + sum(a.nbytes for a in arrays):
                return False
            with tempfile.NamedTemporaryFile(dir=self.folder, suffix=".part", delete=False) as f:
                temporary = Path(f.name)
                for array in arrays:
                    array.tofile(f)
                f.write(mark)
                f.flush()
                os.fdatasync(f.fileno())
            temporary.replace(self.folder / name)
        except OSError:
            if temporary is not None:
                temporary.unlink(missing_ok=True)
            return False
        return True

    def sweep(self) -> None:
        """Remove what was used least recently, beyond what is kept at most, and broken pieces.

        What is mapped just now stays where it is, whether its file does or not.
        """
        with contextlib.suppress(OSError):
            old = time.time() - BROKEN_AFTER
            for path in self.folder.glob("*.part"):
                if path.stat().st_mtime < old:
                    path.unlink(missing_ok=True)
            files = [(p, p.stat()) for p in self.folder.iterdir() if p.is_file()]
            total = sum(s.st_size for _, s in files)
            for path, stat in sorted(files, key=lambda x: x[1].st_mtime):
                if total <= self.most_bytes:
                    return
                if path.name not in self.used:
                    path.unlink(missing_ok=True)
                    total -= stat.st_size
