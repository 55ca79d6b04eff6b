"""USDZ: a stage and all that it names in one ZIP, by the rules of the standard.

Nothing in it is packed tighter, every file begins at a multiple of 64 bytes, the stage comes first,
and of pictures PNG, JPEG, OpenEXR and AVIF have a place (USDZ File Format Specification).  What it
was made of is opened again before it is handed over.
"""

from __future__ import annotations

import glob
import os
import tempfile
from pathlib import Path
from typing import Any

import OpenImageIO as oiio

from mill_lane.core.errors import MillError
from mill_lane.core.formats.usd.write import write_usd
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.scene.model import Note, Scene

LAYERS = (".usd", ".usda", ".usdc")
PACKED = (*LAYERS, ".usdz", ".png", ".jpg", ".jpeg", ".exr", ".avif", ".m4a", ".mp3", ".wav")
FLOATS = (".hdr", ".pfm")  # are packed as OpenEXR
OTHERS = (".tif", ".tiff", ".tga", ".bmp", ".webp")  # are packed as PNG


def write_usdz(
    scene: Scene, path: Path, progress: Progress = silent, flattened: bool = False
) -> list[Note]:
    """Write a scene as USDZ.

    Parameters
    ----------
    scene : Scene
    path : Path
    progress : callable
    flattened : bool
        Whether a stage that was sent in layers goes out as one.

    Returns
    -------
    list of Note
        What the format cannot hold.

    Raises
    ------
    MillError
        Where what was written cannot be opened again.
    """
    from pxr import Sdf, Tf

    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".packing-") as name:
        folder = Path(name)
        root = folder / f"{path.stem}.usdc"
        notes = write_usd(scene, root, part(progress, 0.0, 0.8), flattened)
        files, more = _pack_up(root)
        made = folder / "packed.usdz"
        try:
            with Sdf.ZipFileWriter.CreateNew(str(made)) as archive:
                for k, file in enumerate((root, *files)):
                    archive.AddFile(str(file), file.relative_to(folder).as_posix())
                    progress(0.8 + 0.15 * (k + 1) / (len(files) + 1), f"packing {file.name}")
            _check(made)
        except (Tf.ErrorException, RuntimeError) as e:
            raise MillError(
                f"“{path.name}” could not be packed as USDZ.",
                "Write it as .usda or .usdc.",
                "Nothing was written.",
            ) from e
        made.replace(path)
    progress(1.0, "written")
    return [*notes, *more]


def _pack_up(root: Path) -> tuple[list[Path], list[Note]]:
    """The files that a stage names, each as a package may hold it; what is not there, or has no
    place in one, is named no more.  Its layers are among them, and what these name.
    """
    from pxr import Sdf, UsdUtils

    files: dict[Path, None] = {}
    gone: list[str] = []
    waiting, seen = [root], {root}
    while waiting:
        file = waiting.pop()
        layer = Sdf.Layer.FindOrOpen(str(file))
        named = _Named(root.parent, file.parent)
        UsdUtils.ModifyAssetPaths(layer, named.packed)
        layer.Save()
        gone += named.gone
        files.update(dict.fromkeys(named.files))
        below = [f for f in named.files if f.suffix.lower() in LAYERS and f not in seen]
        waiting += below
        seen.update(below)
    text = "left out of the package: it is not there, or has no place in a USDZ."
    notes = [Note("file_left_out", "lost", f"“{n}” was {text}") for n in dict.fromkeys(gone)]
    return list(files), notes


class _Named:
    """What one layer names: `packed` is asked of each path, and says what is to stand there."""

    def __init__(self, top: Path, folder: Path) -> None:
        self.top, self.folder = top.resolve(), folder
        self.files: list[Path] = []
        self.gone: list[str] = []

    def packed(self, path: str) -> str:
        if not path or path.startswith("`"):
            return path  # within the layer itself, or an expression
        pattern = glob.escape(path).replace("<UDIM>", "[0-9][0-9][0-9][0-9]")
        inner = not Path(path).is_absolute()
        tiles = [f for f in sorted(self.folder.glob(pattern)) if f.is_file()] if inner else []
        if any(not f.resolve().is_relative_to(self.top) for f in tiles):
            tiles = []
        found = [made for made in map(_packable, tiles) if made is not None]
        if not found or len(found) < len(tiles):
            self.gone.append(Path(path).name)
            return ""
        self.files += [Path(os.path.normpath(f)) for f in found]
        name = Path(path).with_name(_packed_name(Path(path).name)).as_posix()
        return name if name.startswith("..") else f"./{name}"


def _packable(file: Path) -> Path | None:
    """The file as a package may hold it; None for what has no place in one."""
    if file.suffix.lower() not in PACKED + FLOATS + OTHERS:
        return None
    made = file.with_name(_packed_name(file.name))
    if not made.exists():
        picture = oiio.ImageBuf(str(file))
        if picture.has_error or not picture.write(str(made)):
            picture.geterror()
            return None
    return made


def _packed_name(name: str) -> str:
    """What a file is called once it is packed: another where it becomes another kind of picture."""
    stem, _, ending = name.rpartition(".")
    if f".{ending}".lower() in PACKED:
        return name
    return f"{stem}_{ending}{'.exr' if f'.{ending}'.lower() in FLOATS else '.png'}"


def _check(path: Path) -> None:
    """Raise RuntimeError where a package cannot be opened, or names what it does not hold."""
    from pxr import Usd, UsdUtils

    stage: Any = Usd.Stage.Open(str(path))
    _, _, missing = UsdUtils.ComputeAllDependencies(str(path))
    if not stage or missing:
        raise RuntimeError(f"missing: {missing}")
