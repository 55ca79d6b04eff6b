"""Files by the hash of their content: written under a temporary name, synced, renamed."""

from __future__ import annotations

import hashlib
import os
import shutil
import tempfile
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy.orm import Session

from mill_lane.store.models import StoredFile

BLOCK = 1 << 20


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
    """A file that lies in the store and is not listed yet."""

    hash: str
    name: str
    size: int


class Files:
    """The content store under a folder.

    A file is put into the store first, which takes as long as it takes; listing it in the database
    afterwards is a matter of a short transaction.
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
        """Move a file into the store.  The same content is kept once."""
        key = file_hash(source, sync=True)
        target = self.path(key)
        size = source.stat().st_size
        if target.exists() and target.stat().st_size == size:
            source.unlink()
        else:
            target.parent.mkdir(parents=True, exist_ok=True)
            self._move(source, target)
            target.chmod(0o444)
        return Taken(key, name or source.name, size)

    def _move(self, source: Path, target: Path) -> None:
        try:
            source.replace(target)
        except OSError:  # another file system: copy under a temporary name first
            with (
                tempfile.NamedTemporaryFile(dir=target.parent, delete=False) as out,
                source.open("rb") as f,
            ):
                shutil.copyfileobj(f, out, BLOCK)
                out.flush()
                os.fsync(out.fileno())
            Path(out.name).replace(target)
            source.unlink()


def list_file(session: Session, taken: Taken) -> str:
    """List a file that lies in the store; returns its hash."""
    if session.get(StoredFile, taken.hash) is None:
        session.add(StoredFile(hash=taken.hash, name=taken.name, size=taken.size))
        session.flush()
    return taken.hash
