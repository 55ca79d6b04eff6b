"""Scene files of kinds that are not read: known by their first bytes, and told with the way out."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from mill_lane.core.errors import MillError

HEAD = 4096  # bytes that are looked at


@dataclass(frozen=True)
class Unread:
    """A kind of file.

    `starts` are first bytes, `holds` is found within the first few thousand.
    """

    name: str
    endings: tuple[str, ...]
    starts: tuple[bytes, ...] = ()
    holds: tuple[bytes, ...] = ()
    instead: str = "Export the scene as GLB (glTF binary) or USD from the program that made it."


KINDS = (
    Unread("FBX", (".fbx",), (b"Kaydara FBX Binary", b"; FBX")),
    Unread("Alembic", (".abc",), (b"Ogawa", b"\x89HDF\r\n\x1a\n")),
    Unread("COLLADA", (".dae", ".zae"), holds=(b"<COLLADA",)),
    Unread("3MF", (".3mf",)),
    Unread("3DS", (".3ds",), (b"MM",)),
    Unread(
        "STEP or IGES",
        (".step", ".stp", ".iges", ".igs"),
        (b"ISO-10303-21;",),
        instead="Turn it into meshes where it was made, and export these as GLB, USD or STL.",
    ),
    Unread("X3D or VRML", (".x3d", ".wrl"), (b"#VRML",), (b"<X3D",)),
    Unread("a point cloud", (".las", ".laz", ".e57", ".pcd"), (b"LASF", b"ASTM-E57", b"# .PCD")),
    Unread("DXF", (".dxf",)),
    Unread("MaterialX", (".mtlx",), holds=(b"<materialx",)),
    Unread("OpenVDB", (".vdb",), (b" BDV",)),
)


def refuse_name(name: str) -> None:
    """Raise MillError for a file whose ending is one of these kinds'."""
    for kind in KINDS:
        if name.lower().endswith(kind.endings):
            raise _refused(name, kind)


def refuse_bytes(path: Path) -> None:
    """Raise MillError for a file that begins as one of these kinds does, whatever its name.

    Raises OSError where it cannot be read.
    """
    with path.open("rb") as f:
        head = f.read(HEAD)
    for kind in KINDS:
        if kind.starts and head.startswith(kind.starts):
            raise _refused(path.name, kind)
        if any(x in head for x in kind.holds) and head.lstrip(b"\xef\xbb\xbf \r\n\t")[:1] == b"<":
            raise _refused(path.name, kind)


def _refused(name: str, kind: Unread) -> MillError:
    return MillError(
        f"“{name}” is {kind.name}, which Mill Lane does not read.",
        kind.instead,
        "Nothing was imported.",
    )
