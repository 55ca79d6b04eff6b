"""Files that a scene names, found as people send them: on another system's disk, in a ZIP.

Names with other capitals, in another Unicode form, percent-encoded, with backslashes, or with the
path of the machine where the scene was made lead to the file where it is there all the same.
Nothing outside the scene's folder, or its ZIP, is ever looked at.
"""

from __future__ import annotations

import os
import re
import unicodedata
from pathlib import Path
from typing import NamedTuple
from urllib.parse import unquote

from mill_lane.core.errors import MillError
from mill_lane.core.formats.blob import LONGEST_NAME, inside
from mill_lane.core.scene.model import Note

DRIVE = re.compile(r"[A-Za-z]:/")
UNPACKED = "mill-lane-zip-"  # what the names of folders begin with that ZIPs are unpacked into


class Sought(NamedTuple):
    """Where a named file lies, or would; `otherwise` where that is not what its name says."""

    path: Path
    otherwise: bool = False

    def told(self, name: str) -> list[Note]:
        """What is said of it: nothing where it lies where it should."""
        if not self.otherwise:
            return []
        text = f"“{name}” was not there; “{self.path.name}”, which is, was taken for it."
        return [Note("found_otherwise", "look", text)]


def boundary(folder: Path) -> Path:
    """The folder that all files of a scene lie in: that of its ZIP, or its own."""
    for above in (folder, *folder.parents):
        if above.name.startswith(UNPACKED):
            return above
    return folder


def sought(folder: Path, name: str, scene: Path | None = None) -> Sought:
    """Find a file that another one names.

    Parameters
    ----------
    folder : Path
        Of the file that names it.
    name : str
        As it stands there.
    scene : Path, optional
        The folder of the scene, where that file is a part of it and may lie below.

    Returns
    -------
    Sought
        With the path that the name says where there is no such file at all.

    Raises
    ------
    MillError
        For names that lead outside and are not to be found by their last part either.
    """
    folder = folder.resolve()
    root = boundary(folder if scene is None else scene.resolve())
    if not folder.is_dir() or not folder.is_relative_to(root):
        folder = root  # within a package, say
    within = folder.relative_to(root).as_posix()
    plain = name.replace("\\", "/")
    names = list(dict.fromkeys((name, plain, unquote(plain))))
    wrong: MillError | None = None
    first: Path | None = None
    for written in names:
        try:
            path = inside(root, written if os.path.isabs(written) else f"{within}/{written}")
        except MillError as e:
            wrong = wrong or e
            continue
        if path.is_file():
            return Sought(path, written != name)
        first = first or path
        other = _spelt_otherwise(root, path)
        if other is not None:
            return Sought(other, True)
    last = names[-1].rpartition("/")[2]
    other = _by_last_part(root, folder, last) if last else None
    if other is not None:
        return Sought(other, True)
    if first is not None:
        return Sought(first)
    if root != folder or folder.name.startswith(UNPACKED):
        # Of another machine's disk, and not in the ZIP: it is missing, like any other file.
        absolute = names[-1].startswith("/") or DRIVE.match(names[-1])
        if absolute and last and "\0" not in last and len(last.encode()) <= LONGEST_NAME:
            return Sought(folder / last)
    assert wrong is not None
    raise wrong


def key(name: str) -> str:
    """The same for names that differ in capitals or in their Unicode form alone."""
    return unicodedata.normalize("NFC", name).casefold()


def _spelt_otherwise(root: Path, path: Path) -> Path | None:
    """The one file below a folder whose path differs in spelling alone."""
    at = root
    for part in path.relative_to(root).parts:
        if not (at / part).exists():
            try:
                found = [e.name for e in os.scandir(at) if key(e.name) == key(part)]
            except OSError:
                return None
            if len(found) != 1:
                return None
            at = at / found[0]
        else:
            at = at / part
    return at if at.is_file() and at.resolve().is_relative_to(root) else None


def _by_last_part(root: Path, folder: Path, last: str) -> Path | None:
    """The file of that name beside the one that names it; in a ZIP the only one anywhere."""
    beside = folder / last
    if beside.is_file() and beside.resolve().is_relative_to(root):
        return beside
    if not root.name.startswith(UNPACKED):
        return _spelt_otherwise(root, beside)
    found = [p for p in root.rglob("*") if key(p.name) == key(last) and p.is_file()]
    return found[0] if len(found) == 1 and found[0].resolve().is_relative_to(root) else None
