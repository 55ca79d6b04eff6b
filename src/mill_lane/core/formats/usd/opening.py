"""Opening a stage without ever leaving its folder.

What names other files is looked at before anything is composed, and what was opened is looked at
afterwards, before anything of it is kept.  The process in which this usually happens could not open
anything else to begin with (`confine`).
"""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from mill_lane.core.errors import MillError
from mill_lane.core.formats.sought import boundary, sought
from mill_lane.core.formats.usd.size import MOST_PRIMS, Prims
from mill_lane.core.scene.model import Note

MOST_LAYERS = 20_000
PLACE = re.compile(r":(\d+):(\d+): (.+)")


def open_stage(path: Path) -> tuple[Any, list[str], list[Note]]:
    """The composed stage of a file, payloads and all, the files that it names and that are not
    there, and what is told of those that were found elsewhere.

    Every layer that it refers to is looked at before anything is composed: what lies outside the
    folder is refused, what is missing is left out.  Raises MillError for that, for what the library
    cannot read, and for what would be multiplied beyond measure.
    """
    from pxr import Ar, Sdf, Tf, Usd

    folder, path = path.parent.resolve(), path.absolute()
    try:
        with _working_in(folder):
            root = Sdf.Layer.FindOrOpen(str(path))
            if root is None:
                raise MillError(
                    f"{path.name} cannot be read as USD.",
                    "Export it again, as usdc or usda.",
                    "Nothing was imported.",
                )
            layers, missing, told = _look_through(path, root)
            if (
                Prims(lambda layer, asset: _named(folder, layer, asset, layers)).of_layer(root)
                > MOST_PRIMS
            ):
                raise MillError(
                    f"{path.name} multiplies its parts to over {MOST_PRIMS:,} objects.",
                    "Use a point instancer for what is scattered, or export fewer copies.",
                    "Nothing was imported.",
                )
            stage = Usd.Stage.Open(root, Ar.DefaultResolverContext([str(folder)]))
            check_layers(stage, path)
            return stage, [*missing, *_not_found(stage, missing)], told
    except (Tf.ErrorException, RuntimeError) as e:
        raise MillError(
            f"{path.name} is damaged: {said(e)}", "Export it again.", "Nothing was imported."
        ) from e


@contextlib.contextmanager
def _working_in(folder: Path) -> Iterator[None]:
    """Names without `./` are looked for in the working directory first: it is the scene's own."""
    before = os.open(".", os.O_PATH | os.O_CLOEXEC)
    os.chdir(folder)
    try:
        yield
    finally:
        os.fchdir(before)
        os.close(before)


def _look_through(path: Path, root: Any) -> tuple[dict[str, Any], list[str], list[Note]]:
    """All layers that are named, by path, the names of those that are not there, and what is told
    of those that lie elsewhere than their name says.
    """
    from pxr import Sdf

    found = {root.realPath: root}
    missing: list[str] = []
    told: list[Note] = []
    waiting, seen = [root], set()
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
            if not asset:
                continue  # within the file itself
            if asset.startswith("`"):
                continue  # an expression: what it comes to is looked at afterwards
            where = sought(Path(layer.realPath).parent, asset, path.parent)
            file = where.path
            other = Sdf.Layer.FindOrOpen(str(file)) if file.is_file() else None
            if other is not None and where.otherwise:
                nearby = os.path.relpath(file, Path(layer.realPath).parent)
                layer.UpdateCompositionAssetDependency(asset, f"./{nearby}")
                told += where.told(asset)
            if other is not None:
                found[str(file)] = other
                waiting.append(other)
            else:
                missing.append(asset)
    return found, missing, told


def _named(folder: Path, layer: Any, asset: str, layers: dict[str, Any]) -> Any:
    """The layer that another one names, of those that were found; None for any other."""
    try:
        return layers.get(str(sought(Path(layer.realPath).parent, asset, folder).path))
    except MillError:
        return None


def check_layers(stage: Any, path: Path) -> None:
    """Raise MillError when any layer that was opened lies outside the folder of `path`.

    However it was named: by an expression, by clips of values, or by the working directory.
    """
    folder = boundary(path.parent.resolve())
    allowed = {path.resolve()}
    for layer in stage.GetUsedLayers(True):
        if layer.anonymous or not layer.realPath:
            continue
        package, _, _ = layer.realPath.partition("[")
        file = Path(package).resolve()
        if file not in allowed and not file.is_relative_to(folder):
            raise MillError(
                f"{path.name} names the file “{file.name}”, which lies outside its own folder.",
                "Put all files beside the scene and export it with relative paths, then open it "
                "again.",
                "Nothing from outside the folder was kept and nothing was imported.",
            )


def _not_found(stage: Any, known: list[str]) -> list[str]:
    """Files that were to be composed and were not there, beside those that are known."""
    from pxr import Pcp

    out = []
    for error in stage.GetCompositionErrors():
        asset = getattr(error, "assetPath", "") or getattr(error, "sublayerPath", "")
        if isinstance(error, (Pcp.ErrorInvalidAssetPath, Pcp.ErrorInvalidSublayerPath)) and asset:
            name = Path(str(asset)).name
            if not any(Path(k).name == name for k in known):
                out.append(str(asset))
    return out


def said(error: Exception) -> str:
    """The last line of what the library says; of a damaged file that may not even be text."""
    try:
        lines = str(error).strip().splitlines()
    except UnicodeDecodeError:
        lines = []
    # A text that cannot be parsed: where and why, in the parser's own words.
    for line in reversed(lines):
        found = PLACE.search(line)
        if found:
            return f"line {found[1]}, column {found[2]}: {found[3].strip()}"[:300]
    lines = [line.strip(" '\t") for line in lines if line.strip(" '\t")]
    return lines[-1][:300] if lines else type(error).__name__
