"""The stage that a scene came from, flattened into one layer and kept, to be handed back.

Composition is done with: references, payloads and variants are what they came to, instances stay
instances.  Pictures are named by tokens, so that the files written later can be put in their place.
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from mill_lane.core.formats.blob import Blob

TOKEN = "mill-lane-picture-"
LARGEST = 512 * 10**6  # bytes of a flattened stage that are kept


def flattened(
    stage: Any, pictures: dict[str, str], packed: dict[str, tuple[str, str]], folder: Path
) -> tuple[Blob | None, dict[str, Blob]]:
    """Flatten a stage to the bytes of one crate.

    Parameters
    ----------
    stage : Usd.Stage
    pictures : dict
        The token of each texture shader's picture, by the path of the shader.
    packed : dict
        Of inputs of surfaces that read a channel of another picture now, by path: the shader and
        the output.
    folder : Path
        Of the scene; nothing from outside is taken along.

    Returns
    -------
    stage : Blob or None
        None where it would be too large.
    files : dict
        What it names beside those pictures, by the path relative to it.
    """
    from pxr import Sdf

    layer = stage.Flatten(addSourceFileComment=False)
    for shader, token in pictures.items():
        spec = layer.GetAttributeAtPath(f"{shader}.inputs:file")
        if spec is not None:
            spec.default = Sdf.AssetPath(token)
    for at, (shader, channel) in packed.items():
        spec = layer.GetAttributeAtPath(at)
        if spec is not None:
            spec.connectionPathList.ClearEdits()
            spec.connectionPathList.explicitItems = [f"{shader}.outputs:{channel}"]
            made = layer.GetPrimAtPath(shader)
            if made is not None and layer.GetAttributeAtPath(f"{shader}.outputs:{channel}") is None:
                Sdf.AttributeSpec(made, f"outputs:{channel}", Sdf.ValueTypeNames.Float)
    files = take_along(layer, set(pictures.values()), folder)
    with tempfile.TemporaryDirectory(prefix="mill-lane-stage-") as made:
        file = Path(made) / "stage.usdc"
        if not layer.Export(str(file)) or file.stat().st_size > LARGEST:
            return None, {}
        return Blob.of(file.read_bytes()), files


def take_along(layer: Any, tokens: set[str], folder: Path) -> dict[str, Blob]:
    """Other files are named as they lie beside the scene, since flattening made paths absolute;
    what is not there, or lies outside, by its name alone.
    """
    from pxr import UsdUtils

    files: dict[str, Blob] = {}

    def named(path: str) -> str:
        if path in tokens:
            return path
        outer, bracket, inner = path.partition("[")
        relative = _within(folder, outer)
        if bracket and relative:
            inner = inner.rstrip("]")
            data = _unpacked(path)
            if data is not None and ".." not in Path(inner).parts:
                files[inner] = data
                return f"./{inner}"
        elif relative and (folder / relative).is_file():
            data = Blob.file(folder / relative)
            if sum(b.length for b in files.values()) + data.length < LARGEST:
                files[relative] = data
                return f"./{relative}"
        return Path(inner.rstrip("]") or path).name

    UsdUtils.ModifyAssetPaths(layer, named)
    return files


def _within(folder: Path, path: str) -> str:
    """A path relative to the folder that it lies in; empty for any other."""
    try:
        return (folder.resolve() / path).resolve().relative_to(folder.resolve()).as_posix()
    except (ValueError, OSError):
        return ""


def _unpacked(path: str) -> Blob | None:
    """A file within a package."""
    from pxr import Ar

    asset = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(path))
    if asset is None or asset.GetSize() > LARGEST:
        return None
    return Blob.of(bytes(asset.GetBuffer()))
