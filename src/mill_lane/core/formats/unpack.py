"""A scene that comes with its files in one ZIP."""

from __future__ import annotations

import errno
import tempfile
import zipfile
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from mill_lane.core.disk import amount, check_room, full
from mill_lane.core.errors import MillError
from mill_lane.core.formats.blob import inside
from mill_lane.core.formats.sought import UNPACKED
from mill_lane.core.formats.usd.roots import is_stage, referred_to

UNZIPPED_LIMIT = 32 * 10**9
ZIP_MEMBERS = 20000
MOST_RATIO = 200  # DEFLATE can do 1032; scenes come to 3 to 20
MOST_LISTED = 8
SMALL = 200 * 10**6  # bytes, that may be packed as tightly as anybody likes


def is_zip(path: Path) -> bool:
    """Whether a file begins as ZIP files do."""
    with path.open("rb") as f:
        return f.read(4) == b"PK\x03\x04"


def unpack(path: Path) -> tempfile.TemporaryDirectory[str]:
    """The files of a ZIP in a folder that lasts as long as what is returned.

    Raises MillError for a damaged file, for too many or too large members, and for names that leave
    the folder.
    """
    keep = tempfile.TemporaryDirectory(prefix=UNPACKED)
    folder = Path(keep.name)
    try:
        with zipfile.ZipFile(path) as z:
            members = [m for m in z.infolist() if not m.is_dir() and not _is_left(m.filename)]
            _check_size(path, folder, members)
            for m in members:
                target = inside(folder, m.filename.replace("\\", "/"))
                target.parent.mkdir(parents=True, exist_ok=True)
                with z.open(m) as source, target.open("wb") as out:
                    left = m.file_size  # what the directory promised is the most that is unpacked
                    while left > 0 and (data := source.read(min(1 << 20, left))):
                        out.write(data)
                        left -= len(data)
    except (
        zipfile.BadZipFile,
        zipfile.LargeZipFile,
        EOFError,
        NotImplementedError,
        RuntimeError,
        OSError,
        zlib.error,
    ) as e:
        if isinstance(e, OSError) and e.errno in (errno.ENOSPC, errno.EDQUOT):
            raise full(folder, None, f"{path.name}, unpacked,") from e
        raise MillError(
            f"{path.name} is a damaged ZIP: {e}.", "Pack the folder again.", "Nothing was imported."
        ) from e
    return keep


def _is_left(name: str) -> bool:
    """Whether systems put a file beside those that were packed: it is no part of a scene."""
    parts = name.replace("\\", "/").split("/")
    return any(p == "__MACOSX" or p.startswith("._") or p == ".DS_Store" for p in parts)


def _check_size(path: Path, folder: Path, members: Sequence[zipfile.ZipInfo]) -> None:
    """Raise MillError for a ZIP that unpacks to more than there is room for, or than anybody would
    pack.
    """
    total = sum(m.file_size for m in members)
    if len(members) > ZIP_MEMBERS or total > UNZIPPED_LIMIT:
        raise MillError(
            f"{path.name} unpacks to over {UNZIPPED_LIMIT // 10**9} GB or {ZIP_MEMBERS} files.",
            "Pack only the scene and its own files.",
            "Nothing was imported.",
        )
    packed = path.stat().st_size
    if total > SMALL and total > packed * MOST_RATIO:
        raise MillError(
            f"{path.name} unpacks to {amount(total)}, over {MOST_RATIO} times its size: that is "
            "no scene.",
            "Pack the folder again.",
            "Nothing was imported.",
        )
    check_room(folder, total, f"{path.name}, unpacked,")


def first_file(path: Path, folder: Path) -> Path:
    """The file that stands first in a package, which is its root by the USDZ specification."""
    with zipfile.ZipFile(path) as z:
        names = [m.filename for m in z.infolist() if not m.is_dir()]
    if not names:
        raise MillError(
            f"{path.name} is an empty package.", "Export the scene again.", "Nothing was imported."
        )
    return inside(folder, names[0])


def the_scene(folder: Path, endings: Sequence[str], name: str, root: str = "") -> Path:
    """The scene of an unpacked folder: the file that no other one refers to.

    Parameters
    ----------
    folder : Path
    endings : sequence of str
        Of scene files.
    name : str
        Of the ZIP.
    root : str
        The file that was chosen, by its path in the folder, where there are several.

    Raises
    ------
    MillError
        Where there is none; `SeveralError` where there are several.
    """
    found = {
        p.relative_to(folder).as_posix(): p
        for p in sorted(folder.rglob("*"))
        if p.suffix.lower() in endings
        and p.is_file()
        and not any(x.startswith(".") for x in p.relative_to(folder).parts)
    }
    if root in found:
        return found[root]
    if not found:
        raise MillError(
            f"{name} holds no scene file ({', '.join(endings)}).",
            "Pack a scene with its files into the ZIP.",
            "Nothing was imported.",
        )
    named = referred_to([p for p in found.values() if is_stage(p)]) if len(found) > 1 else set()
    # In a circle all are named by others: then all are asked about.
    roots = [n for n, p in found.items() if p.resolve() not in named] or list(found)
    highest = min(n.count("/") for n in roots)
    roots = [n for n in roots if n.count("/") == highest]
    if len(roots) > 1:
        raise SeveralError(name, roots)
    return found[roots[0]]


class SeveralError(MillError):
    """A ZIP with several scenes, none of which refers to another; `roots` are their paths."""

    def __init__(self, name: str, roots: Sequence[str]) -> None:
        listed = ", ".join(roots[:MOST_LISTED]) + (", …" if len(roots) > MOST_LISTED else "")
        super().__init__(
            f"{name} holds {len(roots)} scenes, and none refers to another: {listed}.",
            f"Choose the one to open; in a terminal --choose “@{roots[0]}”.",
            "Nothing was imported.",
        )
        self.name, self.roots = name, list(roots)

    def __reduce__(self) -> tuple[Any, ...]:
        """Keep what it is made of."""
        return type(self), (self.name, self.roots)

    def as_json(self) -> dict[str, Any]:
        """With what can be chosen; what was sent is kept meanwhile."""
        return super().as_json() | {"roots": self.roots, "again": True}
