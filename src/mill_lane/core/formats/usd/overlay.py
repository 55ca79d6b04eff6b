"""A stage handed back as it was sent, with what changed in a layer over it.

The layer has the stage's own header, lies beside a folder with all files that came, and names the
root among them as its sublayer: variants, payloads, layers and what is not understood live on.
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from mill_lane.core.formats.choices import Choices
from mill_lane.core.formats.pictures_out import write_pictures
from mill_lane.core.formats.usd.choosing import choose
from mill_lane.core.formats.usd.editing import Editor
from mill_lane.core.formats.usd.kept import take_along
from mill_lane.core.formats.usd.materials import Materials
from mill_lane.core.formats.usd.rematerial import pictures_named_anew
from mill_lane.core.formats.usd.restage import put_changes, sets_of, write_files
from mill_lane.core.progress import Progress
from mill_lane.core.scene.model import Image, Note, Scene


def stage_folder(path: Path) -> Path:
    """The folder beside a written stage with the files that it came with."""
    return path.with_name(f"{path.stem}-stage")


def overlay(scene: Scene, path: Path, progress: Progress) -> list[Note]:
    """Write a scene whose stage is kept as it was sent.

    Parameters
    ----------
    scene : Scene
        With a stage and its root.
    path : Path
        .usda or .usdc; the files that came are written into `stage_folder`, pictures that changed
        into a folder of textures.
    progress : callable

    Returns
    -------
    list of Note
        What could not be handed back.
    """
    from pxr import Sdf, Usd

    from mill_lane.core.formats.usd.read import read_with_materials

    folder = stage_folder(path)
    folder.mkdir()
    write_files(scene, folder)
    progress(0.3, "the stage as it was sent")
    choices = Choices(scene.stage_variants, scene.stage_left_out)
    root = folder / scene.stage_root
    before, materials = read_with_materials(root, choices=choices, keep=False)
    path.unlink(missing_ok=True)
    layer = Sdf.Layer.CreateNew(str(path))
    sent = Sdf.Layer.FindOrOpen(str(root))
    for key in sent.pseudoRoot.ListInfoKeys():
        # A stage's header counts in its root layer alone; its own sublayers come along below.
        if key not in ("subLayers", "subLayerOffsets", "primChildren"):
            layer.pseudoRoot.SetInfo(key, sent.pseudoRoot.GetInfo(key))
    layer.subLayerPaths.append(f"./{root.relative_to(path.parent).as_posix()}")
    stage = Usd.Stage.Open(layer)
    choose(stage, Choices(scene.stage_variants), layer)
    progress(0.6, "what changed")
    editor = Editor(stage)
    files = _put_pictures(editor, scene, before, materials, path)
    notes = put_changes(editor, scene, before, files)
    progress(1.0, "written")
    return notes


def flat(scene: Scene, path: Path, progress: Progress) -> list[Note]:
    """Write such a scene as one layer: variants as they are drawn, everything in it."""
    from pxr import Usd

    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".layers-") as name:
        over = Path(name) / path.name
        notes = overlay(scene, over, progress)
        stage = Usd.Stage.Open(str(over))
        for payload in scene.stage_left_out:
            stage.Unload(payload)
        layer = stage.Flatten(addSourceFileComment=False)
        files = take_along(layer, set(), Path(name))
        layer.Export(str(path))
        for file, data in files.items():
            out = path.parent / file
            out.parent.mkdir(parents=True, exist_ok=True)
            out.write_bytes(data.read())
    sets = [s.name for s in scene.variant_sets]
    if sets:
        text = f"Of the variants ({', '.join(sets)}) only what is drawn is in the flattened stage."
        notes.append(Note("variants_flattened", "lost", text))
    return notes


def _put_pictures(
    editor: Editor, scene: Scene, before: Scene, materials: Materials, path: Path
) -> dict[int, str]:
    """Name the pictures that are others now; the written ones by image, below the stage's
    folder.
    """
    changed = _changed(scene, before)
    wanted = {i for i, m in enumerate(scene.images) if m.path in changed or not m.path}
    wanted |= pictures_named_anew(scene, before)
    folder = path.with_name(f"{path.stem}-textures")
    names = write_pictures(scene, folder, wanted) if wanted else {}
    files = {i: f"{folder.name}/{name}" for i, name in names.items()}
    tokens = {m.path: files[i] for i, m in enumerate(scene.images) if m.path and i in files}
    tokens |= sets_of(tokens)
    for at, token in materials.pictures.items():
        texture = _input(editor, f"{at}.inputs:file") if token in tokens else None
        if texture is not None:
            texture.Set(editor.asset(texture.GetPrim(), tokens[token]))
    for at, (shader, channel) in materials.packed.items():
        if materials.pictures.get(shader) in tokens:
            _connect(editor, at, shader, channel)
    return files


def _changed(scene: Scene, before: Scene) -> set[str]:
    """Tokens of pictures that are others than were sent, sets of tiles as a whole.

    What was not found under its own name counts as well: the stage names nothing that is there.
    """
    was = {m.path: m for m in before.images if m.path}
    out = set()
    for m in scene.images:
        old = was.get(m.path)
        if old is not None and not _same(m, old):
            out.add(m.path)
            out.add(m.path.split(".")[0])
    found = {n.text for n in before.notes if n.code == "found_otherwise"}
    out |= {m.path for m in before.images if any(Path(m.file).name in text for text in found)}
    whole = {token for token in out if "." not in token}
    return out | {m.path for m in scene.images if m.path.split(".")[0] in whole}


def _same(a: Image, b: Image) -> bool:
    if a.missing or b.missing:
        return a.missing == b.missing
    return a.file_bytes == b.file_bytes and a.read() == b.read()


def _input(editor: Editor, at: str) -> Any:
    """The attribute at a path, as it can be written."""
    path, _, name = at.rpartition(".")
    prim = editor.prim(path)
    return prim.GetAttribute(name) if prim else None


def _connect(editor: Editor, at: str, shader: str, channel: str) -> None:
    """Let an input of a surface read a channel of a picture that was put together."""
    from pxr import Sdf, UsdShade

    socket = _input(editor, at)
    source = editor.prim(shader)
    if socket is None or source is None or source.GetStage() != socket.GetPrim().GetStage():
        return
    output = UsdShade.Shader(source).CreateOutput(channel, Sdf.ValueTypeNames.Float)
    UsdShade.Input(socket).ConnectToSource(output)
