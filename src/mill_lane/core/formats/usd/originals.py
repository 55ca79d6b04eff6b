"""The files of a stage as they were sent: kept, so that it goes home with all that it is made of.

A stage of one layer that composes nothing is kept flattened (`kept`), which is the same.
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.usd.kept import LARGEST


def composes(stage: Any) -> bool:
    """Whether flattening a stage would lose something: variants, payloads, references, layers."""
    from pxr import Sdf

    root = stage.GetRootLayer()
    if len([x for x in stage.GetUsedLayers() if not x.anonymous]) > 1:
        return True
    found = False

    def visit(path: Any) -> None:
        nonlocal found
        spec = root.GetPrimAtPath(path) if path.IsPrimPath() else None
        found = found or (
            spec is not None
            and (
                spec.hasReferences
                or spec.hasPayloads
                or len(spec.variantSets) > 0
                or spec.hasInheritPaths
                or spec.hasSpecializes
            )
        )

    root.Traverse(Sdf.Path.absoluteRootPath, visit)
    return bool(found or root.subLayerPaths)


def originals(stage: Any, path: Path, folder: Path) -> tuple[str, dict[str, Blob]]:
    """All files that a stage can be composed of, in whatever variants, and all that they name.

    Parameters
    ----------
    stage : Usd.Stage
        As it is open, with what was found under other names put right.
    path : Path
        Of its root layer.
    folder : Path
        That nothing is kept from outside of.

    Returns
    -------
    root : str
        The path of the root layer within the folder; empty where the files cannot be kept: one lies
        elsewhere, or they are too many.
    files : dict
        By their paths within the folder.
    """
    from pxr import Sdf, UsdUtils

    layers, assets, _ = UsdUtils.ComputeAllDependencies(Sdf.AssetPath(str(path)))
    files: dict[str, Blob] = {}
    layer_bytes = 0
    for layer in layers:
        file = Path(layer.realPath.partition("[")[0])
        name = _within(folder, file)
        if not name or not file.is_file():
            return "", {}
        if name not in files:
            changed = layer.dirty and "[" not in layer.realPath
            files[name] = _as_it_is(layer, file) if changed else Blob.file(file)
            layer_bytes += files[name].length
    for asset in assets:
        file = Path(asset.partition("[")[0])
        name = _within(folder, file)
        if name and file.is_file() and name not in files:
            files[name] = Blob.file(file)
    if layer_bytes > LARGEST or sum(b.length for b in files.values()) > 4 * LARGEST:
        return "", {}
    root = _within(folder, path)
    return (root, files) if root in files else ("", {})


def _as_it_is(layer: Any, file: Path) -> Blob:
    """A layer that was changed while it was opened: names of files that lie elsewhere."""
    with tempfile.TemporaryDirectory(prefix="mill-lane-stage-") as name:
        made = Path(name) / file.name
        layer.Export(str(made))
        return Blob.of(made.read_bytes())


def _within(folder: Path, file: Path) -> str:
    try:
        return file.resolve().relative_to(folder.resolve()).as_posix()
    except (ValueError, OSError):
        return ""
