"""Files by the hash of their content: synced, and moved in with the row that lists them."""

from __future__ import annotations

import contextlib
import fcntl
import functools
import hashlib
import os
import re
import shutil
import tempfile
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy.orm import Session

from mill_lane.store.models import StoredFile

BLOCK = 1 << 20
HASH = re.compile(r"[0-9a-f]{64}")


def file_hash(path: Path, sync: bool = False) -> str:
    """The SHA-256 of a file's content, in hexadecimal.

    With `sync` the content is on the disk afterwards.
    """
    digest = hashlib.sha256()
    with path.open("rb") as f:
        while block := f.read(BLOCK):
            digest.update(block)
        if sync:
            os.fsync(f.fileno())
    return digest.hexdigest()


@dataclass(frozen=True)
class Taken:
    """A file that is about to be kept: its content is synced, and lies at `source` until it is
    listed, then at `target`.

    `original` is what `source` was copied from where that is another file system; it goes when
    the file is listed.
    """

    hash: str
    name: str
    size: int
    source: Path
    target: Path
    original: Path | None = None


class Files:
    """The content store under a folder.

    A file is looked at first, which takes as long as it takes; moving it in and listing it is a
    matter of one short transaction, so that nothing lies in the store that no row names, but for
    the moment between the two.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def path(self, digest: str) -> Path:
        """Where a file lies.  The digest must be 64 hexadecimal digits: it is part of a path."""
        if len(digest) != 64 or not set(digest) <= set("0123456789abcdef"):
            raise ValueError(f"{digest!r} is not a SHA-256")
        return self.folder / digest[:2] / digest

    def put(self, source: Path, name: str | None = None) -> Taken:
        """Get a file ready to be kept: hashed, synced, on the store's file system.

        It stays where it is until `list_file`, so that this can be done again.
        """
        key = file_hash(source, sync=True)
        size, own, original = source.stat().st_size, source, None
        if source.stat().st_dev != self.folder.stat().st_dev:
            own, original = self._copied(source), source
        return Taken(key, name or source.name, size, own, self.path(key), original)

    def _copied(self, source: Path) -> Path:
        """The same file on the store's own file system; nothing is left of one that failed."""
        with (
            tempfile.NamedTemporaryFile(
                dir=self.folder, prefix="tmp", suffix=source.suffix, delete=False
            ) as out,
            source.open("rb") as f,
        ):
            try:
                shutil.copyfileobj(f, out, BLOCK)
                out.flush()
                os.fsync(out.fileno())
            except BaseException:
                Path(out.name).unlink()
                raise
        return Path(out.name)

    def contents(self) -> list[Path]:
        """Whatever lies in the store, listed or not."""
        found = os.walk(self.folder)
        return [Path(folder, name) for folder, _, names in found for name in names]


def hash_of(path: Path) -> str:
    """The hash of a file, which one of a store is called by; others are read once."""
    return path.name if HASH.fullmatch(path.name) else _read_once(path, path.stat().st_mtime_ns)


@functools.lru_cache(maxsize=8)
def _read_once(path: Path, changed: int) -> str:
    return file_hash(path)


def list_file(session: Session, taken: Taken) -> str:
    """Move a file into the store and list it; returns its hash.

    Within a transaction that has the write lock, which is what keeps `leftovers` from taking it for
    one that nobody wants.  Called again after the transaction failed, it finds the file in place,
    where whoever tries again had it `claimed` meanwhile.  The same content is kept once.
    """
    if not (taken.target.exists() and taken.target.stat().st_size == taken.size):
        folder = taken.target.parent
        folder.mkdir(parents=True, exist_ok=True)
        taken.source.chmod(0o444)
        taken.source.replace(taken.target)
        _sync_folder(folder)
    if taken.original is not None:
        taken.original.unlink(missing_ok=True)
    if session.get(StoredFile, taken.hash) is None:
        session.add(StoredFile(hash=taken.hash, name=taken.name, size=taken.size))
        session.flush()
    return taken.hash


@contextlib.contextmanager
def claimed(files: Iterable[Taken]) -> Iterator[None]:
    """Keep files from being freed while it is tried again and again to list them.

    One that was moved into the store by a transaction that then failed is named by no row: the
    lock is what tells it from remains.  It goes with the process.
    """
    with contextlib.ExitStack() as stack:
        for taken in files:
            for path in (taken.source, taken.target):
                with contextlib.suppress(FileNotFoundError):
                    fcntl.flock(stack.enter_context(path.open("rb")), fcntl.LOCK_SH)
                    break
        yield


def in_use(path: Path) -> bool:
    """Whether somebody is receiving a file just now, or is about to list it."""
    if not path.is_file():
        return False
    with path.open("rb") as f:
        try:
            fcntl.flock(f, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return True
    return False


def _sync_folder(folder: Path) -> None:
    """Have a folder's entries on the disk: a rename is not there before."""
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
