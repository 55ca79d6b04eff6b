"""A range of bytes that is read when it is wanted, from a file or from memory."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from mill_lane.core.errors import MillError

LONGEST_NAME = 255  # bytes, as file systems have it


@dataclass(frozen=True)
class Blob:
    """`length` bytes from `offset` of a file (Path) or of bytes held in memory."""

    source: Path | bytes
    offset: int
    length: int

    @classmethod
    def of(cls, data: bytes) -> Blob:
        """Make one of bytes in memory."""
        return cls(data, 0, len(data))

    @classmethod
    def file(cls, path: Path) -> Blob:
        """Make one of a whole file, which is not read yet."""
        return cls(path, 0, path.stat().st_size)

    def read(self, start: int = 0, length: int | None = None) -> bytes:
        """Bytes from `start` within the range.

        Plain reads, not a memory map: mapped pages would count as ours.

        Raises MillError when the range or the file ends early.
        """
        length = self.length - start if length is None else length
        if start < 0 or length < 0 or start + length > self.length:
            raise MillError(
                f"The file says there are {start + length} bytes of data where there are "
                f"{self.length}.",
                "The file is cut short or damaged: export or copy it again.",
            )
        if isinstance(self.source, bytes):
            return self.source[self.offset + start : self.offset + start + length]
        with self.source.open("rb", buffering=0) as f:
            f.seek(self.offset + start)
            data = bytearray(length)
            view, done = memoryview(data), 0
            while done < length:
                got = f.readinto(view[done:])
                if not got:
                    raise MillError(
                        f"{self.source.name} ends {length - done} bytes early.",
                        "The file is cut short: export or copy it again.",
                    )
                done += got
        # A long one is read-only by contract, as bytes would be.
        return bytes(data) if length < 65536 else data  # type: ignore[return-value]

    def slice(self, start: int, length: int) -> Blob:
        """A range within the range, checked."""
        if start < 0 or length < 0 or start + length > self.length:
            raise MillError(
                f"The file points at bytes {start} to {start + length} of a block of "
                f"{self.length}.",
                "The file is cut short or damaged: export or copy it again.",
            )
        return Blob(self.source, self.offset + start, length)


def inside(folder: Path, name: str) -> Path:
    """The path of a file named by another file, which must lie within the folder.

    Raises MillError for absolute paths, drive letters and names that leave the folder, links
    included, and for names that no file can have.
    """
    root = folder.resolve()
    if "\0" in name or any(
        len(piece.encode("utf-8", "replace")) > LONGEST_NAME for piece in name.split("/")
    ):
        raise MillError(
            f"The scene names a file that no system can have: “{name[:60]!r}”.",
            "The file is damaged: export or copy it again.",
            "Nothing was imported.",
        )
    path = (root / name).resolve()
    if (
        os.path.isabs(name)
        or "\\" in name
        or ":" in name.split("/", maxsplit=1)[0]
        or not path.is_relative_to(root)
    ):
        raise MillError(
            f"The scene names the file “{name}”, which lies outside its own folder.",
            "Put all files beside the scene and export it with relative paths, then open it again.",
            "Nothing was read from outside the folder and nothing was imported.",
        )
    return path


def within(folder: Path, path: Path) -> str:
    """A file's name from its folder on, with the folders between; its own where it is elsewhere."""
    root, full = folder.resolve(), path.resolve()
    return full.relative_to(root).as_posix() if full.is_relative_to(root) else full.name
