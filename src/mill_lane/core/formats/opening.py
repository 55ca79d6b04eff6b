"""Opening a scene file of any kind that is read, ready to be weighed and rendered."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from mill_lane.core.errors import MillError
from mill_lane.core.formats.catalogue import FORMATS, reader_of
from mill_lane.core.formats.choices import Choices
from mill_lane.core.formats.emission import FAINT, light_at_hand
from mill_lane.core.formats.units import with_units
from mill_lane.core.formats.unpack import first_file, is_zip, the_scene, unpack
from mill_lane.core.formats.unread import refuse_bytes, refuse_name
from mill_lane.core.progress import Progress, of_megabytes, silent
from mill_lane.core.scene.defaults import with_defaults
from mill_lane.core.scene.model import Scene


def open_scene(
    path: Path, progress: Progress = silent, own: bool = False, choices: Choices | None = None
) -> Scene:
    """The scene of a file, with a camera and a light added where it has none.

    `progress` is told of formats that take long.  A file that is our `own` may carry the USD stage
    that it came from; what a file from elsewhere claims of that kind is not believed.  `choices`
    are the variants to read it in, and the payloads to leave out.  Raises MillError when the file
    cannot be used.
    """
    try:
        if path.stat().st_size == 0:
            raise MillError(
                f"{path.name} is empty (0 bytes).",
                "Export the scene again.",
                "Nothing was imported.",
            )
        refuse_bytes(path)
        if not is_zip(path):
            return _with_defaults(_read(path, progress, own, choices))
    except OSError as e:
        raise MillError(
            f"{path.name} cannot be read: {e.strerror}.", "Check the path and try again."
        ) from e
    keep = unpack(path)
    known = reader_of(path.suffix)
    if known is not None and known.packed:
        scene = _read(first_file(path, Path(keep.name)), progress, own, choices)
    else:
        plain = tuple(e for f in FORMATS if not f.packed for e in f.reads)
        chosen = choices.root if choices is not None else ""
        found = the_scene(Path(keep.name), plain, path.name, chosen)
        scene = _read(found, progress, own, choices)
    # Vertices and pixels are read later: the unpacked files stay as long as the scene does.
    return _with_defaults(replace(scene, keep=(keep, scene.keep)))


def _with_defaults(scene: Scene) -> Scene:
    return with_defaults(scene, light_at_hand(scene), FAINT)


def _read(path: Path, progress: Progress, own: bool, choices: Choices | None) -> Scene:
    # What has no ending that is known is told apart by its first bytes, or refused.
    found = reader_of(path.suffix)
    if found is None:
        refuse_name(path.name)
        found = FORMATS["gltf"]
    assert found.read is not None
    if not choices:
        scene = found.read(path, progress)
    elif found.read_chosen is not None:
        scene = found.read_chosen(path, progress, choices)
    else:
        raise MillError(
            f"{path.name} is of a format without variants or payloads.",
            "Open it without a choice.",
            "Nothing was imported.",
        )
    if found.name == "gltf" and not own:
        scene = replace(scene, stage=None, stage_files={}, stage_root="", variant_sets=())
    return with_units(scene, path.suffix.lower()) if found.unitless else scene


def check_vertices(scene: Scene, progress: Progress = silent) -> None:
    """Read every mesh once, so that damage shows when a file comes in and not in the middle of a
    render.

    Raises MillError naming the mesh.
    """
    parts = [(mesh, p) for mesh in scene.meshes for p in mesh.parts]
    total, done = max(sum(p.bytes for _, p in parts), 1), 0
    for mesh, p in parts:
        try:
            p.load()
        except MillError as e:
            raise MillError(f"Mesh “{mesh.name}”: {e.message}", e.hint, e.kept) from e
        done += p.bytes
        progress(done / total, f"checking meshes: {of_megabytes(done, total)}")
