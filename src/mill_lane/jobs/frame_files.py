"""Files in the folder of frames: what is there, and having it denoised."""

from __future__ import annotations

import functools
import re
from collections import defaultdict
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.denoise.batch import batch_of
from mill_lane.core.denoise.look import FileLook, look_into
from mill_lane.core.errors import MillError
from mill_lane.core.formats.sequences import gaps_in_words, pattern_of
from mill_lane.store.models import Job, Task
from mill_lane.work import queue
from mill_lane.work.kinds.denoise_files import DENOISE_FILES, Payload
from mill_lane.work.limited import limited

NUMBERED = re.compile(r"(.*?)(\d+)(\.exr)", re.IGNORECASE)
MOST_FILES = 20_000  # that are looked through
DEPTH = 3  # folders below the folder of frames


@dataclass(frozen=True)
class Sequence:
    """Files of one name.

    Attributes
    ----------
    name : str
        Below the folder, with a place for the number where it has one.
    frames : int
    range : str
        The first and the last number.
    gaps : str
        Which are missing, in words.
    size : int
        Bytes.
    """

    name: str
    frames: int
    range: str
    gaps: str
    size: int


def sequences(folder: Path) -> list[Sequence]:
    """The EXR files below a folder, gathered by name; empty where there is no such folder."""
    groups: dict[tuple[Path, str, int, str], list[tuple[int, Path]]] = defaultdict(list)
    alone: list[Path] = []
    for path in _files(folder):
        found = NUMBERED.fullmatch(path.name)
        if found is None:
            alone.append(path)
        else:
            digits = found[2]
            width = len(digits) if digits.startswith("0") else 0
            groups[path.parent, found[1], width, found[3]].append((int(digits), path))
    out = [_alone(folder, path) for path in alone]
    for (parent, before, width, after), members in _merged(groups).items():
        numbers = sorted(n for n, _ in members)
        if len(members) == 1:
            out.append(_alone(folder, members[0][1]))
            continue
        place = "#" * width if width else "%d"
        name = (parent / f"{before}{place}{after}").relative_to(folder).as_posix()
        size = sum(path.stat().st_size for _, path in members)
        told = f"{numbers[0]} to {numbers[-1]}"
        out.append(Sequence(name, len(numbers), told, gaps_in_words(numbers), size))
    return sorted(out, key=lambda s: s.name)


def _files(folder: Path) -> list[Path]:
    """EXR files below a folder, by name; links that lead out of it are left out."""
    if not folder.is_dir():
        return []
    found: list[Path] = []
    level = [folder]
    for _ in range(DEPTH + 1):
        entries = [p for f in level for p in sorted(f.iterdir()) if not p.name.startswith(".")]
        inside = [p for p in entries if not p.is_symlink() or _is_inside(folder, p)]
        found += [p for p in inside if p.is_file() and p.suffix.lower() == ".exr"]
        level = [p for p in inside if p.is_dir()]
        if len(found) > MOST_FILES:
            break
    return found[:MOST_FILES]


Groups = dict[tuple[Path, str, int, str], list[tuple[int, Path]]]


def _merged(groups: Groups) -> Groups:
    """Groups of padded numbers with those that grew beyond the padding: 0999, 1000."""
    out = dict(groups)
    for parent, before, width, after in groups:
        grown = parent, before, 0, after
        if width and grown in out:
            more = [(n, p) for n, p in out[grown] if len(str(n)) >= width]
            out[parent, before, width, after] = [*out[parent, before, width, after], *more]
            out[grown] = [m for m in out[grown] if m not in more]
    return {key: members for key, members in out.items() if members}


def _alone(folder: Path, path: Path) -> Sequence:
    return Sequence(path.relative_to(folder).as_posix(), 1, "", "", path.stat().st_size)


def _is_inside(folder: Path, path: Path) -> bool:
    return path.resolve().is_relative_to(folder.resolve())


def inside(folder: Path, name: str) -> Path:
    """A path below the folder of frames.

    Raises
    ------
    MillError
        For a name that leads out of it, or is no EXR's.
    """
    path = folder / name
    if not name or "\0" in name or Path(name).is_absolute() or not _is_inside(folder, path):
        raise MillError(
            f"“{name}” is not below the folder of frames.",
            "Name a file below it, or start with --frames FOLDER.",
        )
    if path.suffix.lower() != ".exr":
        raise MillError(f"“{name}” is not called .exr.", "Name it like denoised/shot.####.exr.")
    return path


def first_file(folder: Path, name: str) -> Path:
    """The first file of a name.  Raises MillError where there is none."""
    path = inside(folder, name)
    pattern = pattern_of(path)
    if pattern is None:
        return path
    numbers = pattern.frames()
    if not numbers:
        raise MillError(f"No file is called like {name}.", "Choose another one of the list.")
    return pattern.path(numbers[0])


def look(folder: Path, name: str, guides_from: dict[str, str]) -> FileLook:
    """Look into the first file of a name, in a process of its own.

    Raises
    ------
    MillError
        For what cannot be read.
    """
    path = first_file(folder, name)
    if not path.is_file():
        raise MillError(f"{name} is not there.", "Choose another one of the list.")
    changed = path.stat().st_mtime_ns
    return _looked_into(path, changed, tuple(sorted(guides_from.items())))


@functools.lru_cache(maxsize=64)
def _looked_into(path: Path, changed: int, guides_from: tuple[tuple[str, str], ...]) -> FileLook:
    """The same, once for every state of a file."""
    return limited(look_into, path, dict(guides_from))


def denoise_files(db: Session, job: Job, folder: Path, wanted: Payload) -> Task:
    """Have files below the folder of frames denoised.

    Raises
    ------
    MillError
        For names outside of it, where nothing is called so, or something is in the way.
    """
    known = newest(db, job)
    if known is not None and not known.over:
        raise MillError("Files are being denoised already.", "Wait for them, or stop that first.")
    source, out = inside(folder, str(wanted.source)), inside(folder, str(wanted.out))
    batch = batch_of(source, out, wanted.there)
    if not batch.frames:
        raise MillError("All of them are there already.", "Choose to write over them.")
    payload = wanted.model_copy(update={"source": source, "out": out})
    return queue.put(db, DENOISE_FILES, payload, job.id)


def newest(db: Session, job: Job) -> Task | None:
    """The newest task of the job that denoises files."""
    query = select(Task).where(Task.kind == DENOISE_FILES.name, Task.job_id == job.id)
    return db.scalars(query.order_by(Task.id.desc()).limit(1)).first()
