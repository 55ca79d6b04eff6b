"""A scene that comes with its files in one ZIP."""

from __future__ import annotations

import errno
import tempfile
import zipfile
import zlib
from collections.abc import Sequence
from pathlib import Path

from mill_lane.core.disk import amount, check_room, full
from mill_lane.core.errors import MillError
from mill_lane.core.formats.blob import inside

UNZIPPED_LIMIT = 32 * 10**9
ZIP_MEMBERS = 20000
MOST_RATIO = 200  # DEFLATE can do 1032; scenes come to 3 to 20
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
    keep = tempfile.TemporaryDirectory(prefix="mill-lane-zip-")
    folder = Path(keep.name)
    try:
        with zipfile.ZipFile(path) as z:
            members = [m for m in z.infolist() if not m.is_dir()]
            _check_size(path, folder, members)
            for m in members:
                target = inside(folder, m.filename)
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


def the_scene(folder: Path, endings: Sequence[str], name: str) -> Path:
    """The one scene file in a folder.  Raises MillError when there is none, or more than one."""
    # What systems put beside the files of a ZIP is no scene.
    hidden = ("__MACOSX", ".")
    found = sorted(
        p
        for p in folder.rglob("*")
        if p.suffix.lower() in endings
        and p.is_file()
        and not any(x.startswith(hidden) for x in p.relative_to(folder).parts)
    )
    # A scene may be made of several files; the one that stands highest is the whole.
    highest = min((len(p.parts) for p in found), default=0)
    found = [p for p in found if len(p.parts) == highest]
    if len(found) != 1:
        names = ", ".join(p.name for p in found[:5]) or "none"
        raise MillError(
            f"{name} must hold exactly one scene file at its top ({', '.join(endings)}); it holds "
            f"{len(found)} ({names}).",
            "Pack one scene with its files into each ZIP.",
            "Nothing was imported.",
        )
    return found[0]
