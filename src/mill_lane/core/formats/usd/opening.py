"""Opening a stage without ever leaving its folder."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from mill_lane.core.errors import MillError
from mill_lane.core.formats.blob import inside

MOST_LAYERS = 20_000


def open_stage(path: Path) -> tuple[Any, list[str]]:
    """The composed stage of a file, payloads and all, and the files that it names and that are not
    there.

    Every layer that it refers to is looked at before anything is composed: what lies outside the
    folder is refused, what is missing is left out.  Raises MillError for that, and for what the
    library cannot read.
    """
    from pxr import Sdf, Tf, Usd

    try:
        root = Sdf.Layer.FindOrOpen(str(path))
        if root is None:
            raise MillError(
                f"{path.name} cannot be read as USD.",
                "Export it again, as usdc or usda.",
                "Nothing was imported.",
            )
        seen: set[str] = set()
        missing: list[str] = []
        waiting = [root]
        while waiting:
            layer = waiting.pop()
            if layer.identifier in seen:
                continue
            seen.add(layer.identifier)
            if len(seen) > MOST_LAYERS:
                raise MillError(
                    f"{path.name} is made of over {MOST_LAYERS} files.",
                    "Export it flattened into one.",
                )
            for asset in layer.GetCompositionAssetDependencies():
                file = beside(path.parent, Path(layer.realPath).parent, asset)
                found = Sdf.Layer.FindOrOpen(str(file)) if file.is_file() else None
                if found is not None:
                    waiting.append(found)
                else:
                    missing.append(asset)
        return Usd.Stage.Open(root), missing
    except (Tf.ErrorException, RuntimeError) as e:
        raise MillError(
            f"{path.name} is damaged: {said(e)}", "Export it again.", "Nothing was imported."
        ) from e


def said(error: Exception) -> str:
    """The last line of what the library says; of a damaged file that may not even be text."""
    try:
        lines = str(error).strip().splitlines()
    except UnicodeDecodeError:
        lines = []
    return lines[-1][:200] if lines else type(error).__name__


def beside(root: Path, folder: Path, asset: str) -> Path:
    """The file that a layer in `folder` names, which must lie within `root`.

    Raises MillError when it does not.
    """
    try:
        base = folder.resolve().relative_to(root.resolve())
    except ValueError:
        base = Path()
    return inside(root, str(base / asset) if not asset.startswith("/") else asset)
