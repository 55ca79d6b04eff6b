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


def flattened(stage: Any, pictures: dict[str, str], packed: dict[str, tuple[str, str]]) -> Any:
    """Flatten a stage to the bytes of one crate.

    Parameters
    ----------
    stage : Usd.Stage
    pictures : dict
        The token of each texture shader's picture, by the path of the shader.
    packed : dict
        Of inputs of surfaces that read a channel of another picture now, by path: the shader and
        the output.

    Returns
    -------
    Blob or None
        None where it would be too large.
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
    _forget_folders(layer, set(pictures.values()))
    with tempfile.TemporaryDirectory(prefix="mill-lane-stage-") as folder:
        file = Path(folder) / "stage.usdc"
        if not layer.Export(str(file)) or file.stat().st_size > LARGEST:
            return None
        return Blob.of(file.read_bytes())


def _forget_folders(layer: Any, tokens: set[str]) -> None:
    """Other files are named as they would lie beside the scene: flattening made paths absolute."""
    from pxr import Sdf

    def visit(path: Any) -> None:
        spec = layer.GetAttributeAtPath(path) if path.IsPropertyPath() else None
        if spec is None:
            return
        value = spec.default
        if isinstance(value, Sdf.AssetPath) and value.path and value.path not in tokens:
            spec.default = Sdf.AssetPath(Path(value.path).name)

    layer.Traverse(Sdf.Path.absoluteRootPath, visit)
