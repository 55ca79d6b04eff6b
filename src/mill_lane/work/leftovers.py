"""What nobody needs any more: remains of killed processes, found by asking the database.

Everything that is about to be removed is taken out of the way under the write lock, by a rename or
one file at a time: whatever is being accepted at that moment is either listed already or not there
yet.  Deleting, which may take long, comes after.
"""

from __future__ import annotations

import shutil
import uuid
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.store.files import in_use
from mill_lane.store.home import Home
from mill_lane.store.models import StoredFile, Task
from mill_lane.store.transactions import write
from mill_lane.work.ending import TEMPORARY, files_of, needs_files, needs_folder
from mill_lane.work.kinds import KINDS

GONE = "gone-"  # what is being deleted is called so
AT_ONCE = 200  # files that are removed under one lock


@dataclass(frozen=True)
class Owned:
    """Paths in the scratch folder that tasks own, and folders that may hold temporary files of
    theirs.
    """

    paths: set[Path]
    idle: set[Path]


def owned(db: Session, home: Home) -> Owned:
    """What tasks own now."""
    paths, idle = set(), set()
    for task in db.scalars(select(Task).where(Task.state.not_in(("done", "cancelled")))):
        if task.kind not in KINDS:
            # Another edition's: it knows what it needs, and says so when it is started again.
            if needs_files(task):
                paths.add(home.scratch / f"task-{task.id}")
            continue
        kind, folder = KINDS[task.kind], home.scratch / f"task-{task.id}"
        if needs_files(task):
            paths.update(files_of(home, kind, task))
        if needs_folder(kind, task):
            paths.add(folder)
            if task.state != "running":
                idle.add(folder / TEMPORARY)
    return Owned(paths, idle)


def sweep_looks(home: Home) -> None:
    """Remove states of looks that nobody took, and files that were being written."""
    for pattern in ("*.state*", "*.part"):
        for path in home.looks.glob(pattern):
            path.unlink(missing_ok=True)


def sweep_scratch(home: Home) -> int:
    """Remove what no task owns from the scratch folder; returns the bytes.

    A file that is being received is locked by whoever receives it, and stays.
    """

    def aside(db: Session) -> list[Path]:
        found = owned(db, home)
        out = []
        for path in (*home.scratch.iterdir(), *found.idle):
            if path in found.paths or not path.exists():
                continue
            if not path.name.startswith(GONE) and in_use(path):
                continue
            target = home.scratch / f"{GONE}{uuid.uuid4().hex}"
            path.rename(target)
            out.append(target)
        return out

    gone = write(home.sessions, aside)
    size = sum(size_of(path) for path in gone)
    for path in gone:
        remove(path)
    return size


def unlisted(db: Session, home: Home) -> list[Path]:
    """Files in the store that no row names."""
    named = set(db.scalars(select(StoredFile.hash)))
    return [p for p in home.files.contents() if p.name not in named]


def sweep_store(home: Home) -> int:
    """Remove from the store what no row names; returns the bytes.

    What a task is about to list stays: see `store.files.claimed`.
    """
    with home.sessions() as db:
        candidates = unlisted(db, home)
    freed = 0
    for i in range(0, len(candidates), AT_ONCE):
        some = candidates[i : i + AT_ONCE]

        def inner(db: Session, some: list[Path] = some) -> int:
            names = [p.name for p in some]
            listed = set(db.scalars(select(StoredFile.hash).where(StoredFile.hash.in_(names))))
            size = 0
            for path in some:
                if path.name not in listed and path.exists() and not in_use(path):
                    size += size_of(path)
                    path.unlink(missing_ok=True)
            return size

        freed += write(home.sessions, inner)
    return freed


def size_of(path: Path) -> int:
    """The bytes of a file, or of all files of a folder; what goes meanwhile counts nothing."""
    total = 0
    for file in [path] if not path.is_dir() else path.rglob("*"):
        try:
            if file.is_symlink() or file.is_dir():
                continue
            total += file.stat().st_size
        except OSError:
            continue
    return total


def remove(path: Path) -> None:
    """Remove a file or a folder, whatever is in it."""
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)


def sweep(home: Home) -> int:
    """Remove all that nobody needs; returns the bytes."""
    sweep_looks(home)
    return sweep_scratch(home) + sweep_store(home)
