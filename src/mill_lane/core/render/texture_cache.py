"""Decoded mip chains kept on the disk, by the content of their pictures, and mapped into memory.

A chain is a file of a `Shelf`: its levels, the small ones first, then its mark.  All chains of a
scene are mapped side by side into one piece of address space (mmap(2) with MAP_FIXED), so that
whoever reads them sees one array, as without a cache.
"""

from __future__ import annotations

import contextlib
import ctypes
import hashlib
import mmap
import os
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render.shelf import Shelf

EDITION = 1  # of the files; also to be raised when chains are made in another way
ENDING = ".chain"
PAGE = mmap.PAGESIZE
# Of mmap(2), where Python has no name for it.
PROT_NONE, MAP_FIXED, MAP_NORESERVE = 0, 0x10, 0x4000
FAILED = ctypes.c_void_p(-1).value

Fill = Callable[[NDArray[np.uint8]], None]


def _libc() -> Any:
    lib = ctypes.CDLL(None, use_errno=True)
    lib.mmap.restype = ctypes.c_void_p
    lib.mmap.argtypes = [
        ctypes.c_void_p,
        ctypes.c_size_t,
        ctypes.c_int,
        ctypes.c_int,
        ctypes.c_int,
        ctypes.c_long,
    ]
    lib.munmap.argtypes = [ctypes.c_void_p, ctypes.c_size_t]
    return lib


class Patchwork:
    """Address space that pieces of files are mapped into; given back once no array looks at it.

    Raises
    ------
    OSError
        Where the system has none left.
    """

    def __init__(self, size: int) -> None:
        self.size = max(_whole_pages(size), PAGE)
        self._lib = _libc()
        self.address = self._map(0, self.size, PROT_NONE, mmap.MAP_PRIVATE | MAP_NORESERVE)

    def _map(self, at: int, size: int, protection: int, flags: int, file: int = -1) -> int:
        if file < 0:
            flags |= mmap.MAP_ANONYMOUS
        found = self._lib.mmap(at or None, size, protection, flags, file, 0)
        if found == FAILED:
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code))
        return int(found)

    def show(self, offset: int, size: int, file: int) -> None:
        """Map the beginning of an open file at an offset, to be read."""
        flags = mmap.MAP_PRIVATE | MAP_FIXED
        self._map(self.address + offset, _whole_pages(size), mmap.PROT_READ, flags, file)

    def own(self, offset: int, size: int) -> None:
        """Have memory of its own at an offset, to be written."""
        protection = mmap.PROT_READ | mmap.PROT_WRITE
        flags = mmap.MAP_PRIVATE | MAP_FIXED
        self._map(self.address + offset, _whole_pages(size), protection, flags)

    def array(self) -> NDArray[np.uint8]:
        """All of it, as an array that keeps it there."""
        return np.asarray(self)

    @property
    def __array_interface__(self) -> dict[str, Any]:
        """What numpy looks at it by."""
        where = {"data": (self.address, False), "shape": (self.size,), "typestr": "|u1"}
        return where | {"version": 3}

    def __del__(self) -> None:
        with contextlib.suppress(AttributeError, TypeError):
            self._lib.munmap(self.address, self.size)


def _whole_pages(size: int) -> int:
    return -(-size // PAGE) * PAGE


@dataclass(frozen=True)
class Chain:
    """What a chain is made from: the picture's bytes as hashed, and how it is read."""

    digest: str
    width: int
    height: int
    channels: int
    wide: bool
    colour: bool
    size: int  # bytes of all its levels

    @property
    def mark(self) -> bytes:
        """What stands at the end of its file."""
        said = f"{EDITION} {self.digest} {self.width}x{self.height}x{self.channels}"
        said += f" {self.wide:d}{self.colour:d} {self.size}"
        return hashlib.sha256(said.encode()).hexdigest().encode()

    @property
    def name(self) -> str:
        """Its file."""
        return self.mark.decode() + ENDING


def digest_of(data: bytes) -> str:
    """By which a picture's bytes are known."""
    return hashlib.sha256(data).hexdigest()


class TextureCache(Shelf):
    """A folder of chains."""

    def place(self, into: Patchwork, offset: int, chain: Chain, fill: Fill) -> bool:
        """Have a chain stand in the address space, from its file where there is a good one.

        Parameters
        ----------
        into : Patchwork
        offset : int
            A whole number of pages.
        chain : Chain
        fill : callable
            Writes the chain into an array of its size, where there is none.

        Returns
        -------
        bool
            Whether it is mapped; else it stands in memory of its own, since there was no room or no
            way to keep it.
        """
        if self._mapped(into, offset, chain):
            return True
        made = np.empty(chain.size, np.uint8)
        fill(made)
        if self.put(chain.name, chain.mark, [made]) and self._mapped(into, offset, chain):
            return True
        into.own(offset, chain.size)
        into.array()[offset : offset + chain.size] = made
        return False

    def _mapped(self, into: Patchwork, offset: int, chain: Chain) -> bool:
        try:
            with self.opened(chain.name, chain.mark, chain.size) as file:
                if file is None:
                    return False
                into.show(offset, chain.size, file)
        except OSError:
            return False
        self.count(chain.size)
        return True
