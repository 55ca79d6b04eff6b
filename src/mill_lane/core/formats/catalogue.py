"""The formats of scenes that are read and written, one entry each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from mill_lane.core.formats.choices import Choices
from mill_lane.core.formats.gltf import read_scene, write_glb
from mill_lane.core.formats.gltf.variants import chosen
from mill_lane.core.formats.meshes import read_obj, read_ply, read_stl
from mill_lane.core.formats.meshes.obj_write import write_obj
from mill_lane.core.formats.packing import write_packed_obj
from mill_lane.core.formats.usd import read_usd
from mill_lane.core.formats.usd.package import write_usdz
from mill_lane.core.formats.usd.write import write_usd
from mill_lane.core.progress import Progress
from mill_lane.core.registry import Registry
from mill_lane.core.scene.model import Note, Scene
from mill_lane.core.subdivision.surface import as_triangles

Read = Callable[[Path, Progress], Scene]
ReadChosen = Callable[[Path, Progress, Choices], Scene]
Write = Callable[[Scene, Path, Progress], list[Note]]


@dataclass(frozen=True)
class Download:
    """How a format is offered for download."""

    title: str
    ending: str
    media_type: str
    kept_as: bool = False  # what scenes are kept as: there to be had as it is
    one_layer: bool = False  # of what came in several


@dataclass(frozen=True)
class Format:
    """A format of scenes.

    Attributes
    ----------
    name : str
        By which it is found.
    reads : tuple of str
        Endings of files that `read` reads.
    read : callable or None
        From a path and a progress callback to a scene, before a camera or a light is added.
    writes : mapping
        What writes files of an ending; it returns notes on what the format cannot hold.
    unitless : bool
        Whether files say neither unit nor axis.
    packed : bool
        Whether a file is a ZIP whose first file is the scene.
    download : Download or None
        How it is offered on the page, beside GLB.
    read_chosen : callable or None
        Reads with variants chosen and payloads left out; None where a format has none.
    writes_flat : mapping
        As `writes`, of formats whose scenes may be made of layers: in one.
    """

    name: str
    reads: tuple[str, ...] = ()
    read: Read | None = None
    writes: tuple[tuple[str, Write], ...] = ()
    unitless: bool = False
    packed: bool = False
    download: Download | None = None
    read_chosen: ReadChosen | None = None
    writes_flat: tuple[tuple[str, Write], ...] = ()


def _quietly(read: Callable[[Path], Scene]) -> Read:
    """A reader that is too quick to tell how far it is."""
    return lambda path, progress: read(path)


def _write_glb(scene: Scene, path: Path, progress: Progress) -> list[Note]:
    # For other programs: what is drawn, not the cages of surfaces.
    write_glb(as_triangles(scene), path, progress)
    n = sum(m.subdivision is not None for m in scene.meshes)
    text = f"{n} subdivision surface{'s' * (n > 1)} went out as the triangles of the level chosen."
    return [Note("subdivision", "look", text)] if n else []


def _flat_usd(scene: Scene, path: Path, progress: Progress) -> list[Note]:
    return write_usd(scene, path, progress, flattened=True)


def _flat_usdz(scene: Scene, path: Path, progress: Progress) -> list[Note]:
    return write_usdz(scene, path, progress, flattened=True)


FORMATS = Registry(
    "format",
    Format(
        "gltf",
        (".glb", ".gltf"),
        _quietly(read_scene),
        ((".glb", _write_glb),),
        read_chosen=lambda path, progress, choices: chosen(read_scene(path), choices),
        download=Download("GLB", ".glb", "model/gltf-binary", kept_as=True),
    ),
    Format(
        "obj",
        (".obj",),
        read_obj,
        ((".obj", write_obj), (".zip", write_packed_obj)),
        unitless=True,
        download=Download("OBJ", ".zip", "application/zip"),
    ),
    Format("ply", (".ply",), _quietly(read_ply), unitless=True),
    Format("stl", (".stl",), _quietly(read_stl), unitless=True),
    Format(
        "usd",
        (".usd", ".usda", ".usdc"),
        read_usd,
        ((".usda", write_usd), (".usdc", write_usd)),
        read_chosen=read_usd,
        writes_flat=((".usda", _flat_usd), (".usdc", _flat_usd)),
    ),
    Format(
        "usdz",
        (".usdz",),
        read_usd,
        ((".usdz", write_usdz),),
        packed=True,
        read_chosen=read_usd,
        download=Download("USD", ".usdz", "model/vnd.usdz+zip"),
        writes_flat=((".usdz", _flat_usdz),),
    ),
    Format(
        "usdz-flat",
        download=Download("USD, one layer", ".usdz", "model/vnd.usdz+zip", one_layer=True),
    ),
)


def reader_of(ending: str) -> Format | None:
    """The format that reads files of an ending, which may be in capitals."""
    return next((f for f in FORMATS if f.read and ending.lower() in f.reads), None)


def writer_of(ending: str, flat: bool = False) -> Write | None:
    """What writes files of an ending, which may be in capitals; in one layer where that is
    asked for and makes a difference.
    """
    every = [
        *(w for f in FORMATS for w in f.writes_flat if flat),
        *(w for f in FORMATS for w in f.writes),
    ]
    return next((w for e, w in every if e == ending.lower()), None)


def read_endings() -> tuple[str, ...]:
    """The endings of all files that are read, ZIPs included."""
    return (*(e for f in FORMATS for e in f.reads), ".zip")


def written_endings() -> tuple[str, ...]:
    """The endings of all files that are written."""
    return tuple(e for f in FORMATS for e, _ in f.writes)
