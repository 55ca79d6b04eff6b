"""Writing over prims of a stage wherever they can be written: in the over-layer, or, for what
instances share, in the layer that holds it.
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any


class Editor:
    """A stage that is written over.

    Parameters
    ----------
    stage : Usd.Stage
        Its edit target is its root layer.

    Attributes
    ----------
    stuck : dict
        Paths of prims that could not be written to.
    """

    def __init__(self, stage: Any) -> None:
        self.stage = stage
        self.folder = Path(stage.GetRootLayer().realPath).parent
        self.stuck: dict[str, None] = {}
        self._stages: dict[str, Any] = {}

    def prim(self, path: str) -> Any:
        """The prim to write to for the one at a path: itself, or what its instance is one of.

        None where there is no such prim, or it stands where nothing can be written.
        """
        prim = self.stage.GetPrimAtPath(path)
        if not prim:
            return None
        if not prim.IsInstanceProxy():
            return prim
        stack = prim.GetPrimInPrototype().GetPrimStack()
        spec = stack[0] if stack else None
        if spec is None or spec.path.ContainsPrimVariantSelection():
            self.stuck[path] = None
            return None
        found = self._stage_of(spec.layer).GetPrimAtPath(spec.path)
        if (
            not found
            or found.IsInstanceProxy()
            or not found.GetStage().GetRootLayer().permissionToEdit
        ):
            self.stuck[path] = None
            return None
        return found

    def _stage_of(self, layer: Any) -> Any:
        """A stage on which a layer can be written: this one where the layer is of its own."""
        from pxr import Usd

        if layer in self.stage.GetLayerStack():
            return self.stage
        if layer.identifier not in self._stages:
            self._stages[layer.identifier] = Usd.Stage.Open(layer)
        return self._stages[layer.identifier]

    def asset(self, prim: Any, name: str) -> Any:
        """The path of a file below the stage's folder, as the layer that a prim is written in says
        it.
        """
        from pxr import Sdf

        if not name:
            return Sdf.AssetPath("")
        place = Path(prim.GetStage().GetRootLayer().realPath).parent
        near = Path(os.path.relpath(self.folder / name, place)).as_posix()
        return Sdf.AssetPath(near if near.startswith("..") else f"./{near}")

    def save(self) -> int:
        """Write all layers that were changed; returns how many of them are not the stage's root."""
        self.stage.GetRootLayer().Save()
        changed = [s.GetRootLayer() for s in self._stages.values() if s.GetRootLayer().dirty]
        for layer in changed:
            layer.Save()
        return len(changed)
