"""Writing a scene in the format that a file's ending names."""

from __future__ import annotations

import filecmp
import tempfile
from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.catalogue import writer_of, written_endings
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Note, Scene


def save_scene(
    scene: Scene, path: Path, progress: Progress = silent, flat: bool = False
) -> list[Note]:
    """Write a scene.

    Parameters
    ----------
    scene : Scene
    path : Path
        Its ending names the format.
    progress : callable
    flat : bool
        Whether a scene that is made of layers is written as one.

    Returns
    -------
    list of Note
        What the format could not hold.

    Raises
    ------
    MillError
        For an ending that no format is written under.
    """
    write = writer_of(path.suffix, flat)
    if write is None:
        raise MillError(
            f"Scenes are not written as {path.suffix or 'files without an ending'}.",
            f"Use {', '.join(written_endings())}.",
        )
    path = path.absolute()
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".writing-") as name:
        made = Path(name)
        notes = write(scene, made / path.name, progress)
        _move(made, path)
    return notes


def _move(made: Path, path: Path) -> None:
    """Put what was written into its place, the scene itself last: a failure before leaves what was
    there as it was.

    Pictures in the scene's own folder take the place of those of before; a file of anybody else's
    stays.  Raises MillError where one is in the way.
    """
    beside = sorted(p for p in made.rglob("*") if p.is_file() and p.parent != made)
    beside += sorted(p for p in made.iterdir() if p.is_file() and p.name != path.name)
    targets = [path.parent / p.relative_to(made) for p in beside]
    own = {f"{path.stem}-textures", f"{path.stem}-stage", f"{path.stem}.mtl"}
    for file, target in zip(beside, targets, strict=True):
        first = file.relative_to(made).parts[0]
        if first not in own and target.exists() and not filecmp.cmp(file, target, shallow=False):
            raise MillError(
                f"“{file.relative_to(made)}” is there already, and is another file.",
                "Write the scene into an empty folder.",
                "Nothing was written.",
            )
    for file, target in zip(beside, targets, strict=True):
        target.parent.mkdir(parents=True, exist_ok=True)
        file.replace(target)
    (made / path.name).replace(path)
