"""Opening a scene otherwise from what is kept of it: without the file that was sent."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.blob import inside
from mill_lane.core.formats.choices import Choices
from mill_lane.core.formats.gltf.turn import read_in
from mill_lane.core.formats.gltf.variants import chosen
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.sought import UNPACKED
from mill_lane.core.formats.units import from_declared
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Scene


def reopened(path: Path, choices: Choices, progress: Progress = silent) -> Scene:
    """A scene of ours in other variants, or with other payloads.

    Parameters
    ----------
    path : Path
        The scene as it is kept.
    choices : Choices
        All of them: what is not named is as the file has it.
    progress : callable

    Returns
    -------
    Scene
        As it would be, had it been opened like that: without later changes, but in the unit and
        with the axis that were put right.

    Raises
    ------
    MillError
        For what is not there, and for a scene whose variants were not kept.
    """
    kept = open_scene(path, own=True)
    if not kept.variant_sets:
        raise MillError("The scene has no variants that could be chosen.", "Open its file again.")
    if not kept.stage_root:
        return chosen(kept, choices)
    folder = tempfile.TemporaryDirectory(prefix=UNPACKED)
    for name, data in kept.stage_files.items():
        file = inside(Path(folder.name), name)
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data.read())
    wanted = replace(choices, left_out=kept.stage_left_out)
    scene = open_scene(Path(folder.name) / kept.stage_root, progress, choices=wanted)
    if kept.read_as is not None:
        matrix = from_declared(*kept.read_as, scene.declared)
        scene = replace(read_in(scene, matrix, kept.read_as), notes=scene.notes, keep=scene.keep)
    return replace(scene, keep=(folder, scene.keep))
