"""Writing a scene in the format that a file's ending names."""

from __future__ import annotations

from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.catalogue import writer_of, written_endings
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Note, Scene


def save_scene(scene: Scene, path: Path, progress: Progress = silent) -> list[Note]:
    """Write a scene.

    Parameters
    ----------
    scene : Scene
    path : Path
        Its ending names the format.
    progress : callable

    Returns
    -------
    list of Note
        What the format could not hold.

    Raises
    ------
    MillError
        For an ending that no format is written under.
    """
    write = writer_of(path.suffix)
    if write is None:
        raise MillError(
            f"Scenes are not written as {path.suffix or 'files without an ending'}.",
            f"Use {', '.join(written_endings())}.",
        )
    return write(scene, path, progress)
