"""What is put aside while a frame is rendered, and the keys by which it is known again.

A key tells everything that a state depends on: the scene, the recipe, what is shown of the frame,
and the means with which it is rendered.  Whatever lies in a folder under another key was made under
other settings, and is begun anew.
"""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.plan.way import Means
from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import stored
from mill_lane.core.render.state import state_key

Rows = tuple[int, int, int, int]  # x0, y0, x1, y1 of a piece, pixels of the recipe's picture
Layers = Iterator[tuple[str, NDArray[Any]]]
SAMPLES = re.compile(r"\('samples', \d+\)")


def frame_key(
    scene: str,
    recipe: Recipe,
    shown: Mapping[str, Any],
    means: Means | None = None,
    **others: str,
) -> str:
    """By which the state of a frame is known.

    Parameters
    ----------
    scene : str
        Its content, as a hash.
    recipe : Recipe
        The picture of its sky is named by content too.  What becomes of the picture afterwards
        (`denoise`) makes no other one of it.
    shown : mapping
        Crop, frame and what is left out for looking.
    means : Means, optional
        Textures made smaller, strips and parts; what a state was made with stays in its key.
    **others : str
        What else changes the picture where it is given: the camera, what is chosen of a file.
    """
    values = {k: v for k, v in stored(recipe).items() if k != "denoise"}
    key = f"{scene}:{sorted(values.items())}:{sorted(shown.items())}"
    if means is not None and means != Means():
        key += f":{means}"
    return key + "".join(f":{name}={value}" for name, value in sorted(others.items()) if value)


def piece_key(frame: str, means: Means, number: int, rows: Rows) -> str:
    """By which the state of a piece of a frame is known; that of a whole one is the frame's."""
    if means == Means():
        return frame
    return f"{frame}#{means}#{number}#{rows}"


def whole_key(
    scene: str, recipe: Recipe, shown: Mapping[str, Any], means: Means | None = None
) -> str:
    """By which the state of a frame in one piece is known; `shown` has its crop as "region"."""
    x0, y0, x1, y1 = shown["region"]
    key = frame_key(scene, recipe, shown, means)
    return piece_key(key, means or Means(), 0, (x0, y0, x1, y1))


def can_add(kept: str, wanted: str) -> bool:
    """Whether samples can be added to a kept state: all but how many was the same."""
    return SAMPLES.sub("", kept) == SAMPLES.sub("", wanted)


class PutAside:
    """What a frame that was broken off left in its folder: the state of the piece that was being
    rendered, and the layers of strips that are done.

    Parameters
    ----------
    folder : Path
        The task's own.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.state = folder / "state.npz"

    def saved(self) -> str:
        """The key of the saved state; empty where there is none, or it is damaged."""
        try:
            return state_key(self.state) if self.state.exists() else ""
        except MillError:
            return ""

    def strip(self, number: int, key: str) -> dict[str, Any] | None:
        """The figures of a strip that is done, and was made under this key."""
        folder = self._strip(number)
        try:
            figures: dict[str, Any] = json.loads((folder / "figures.json").read_text())
        except (OSError, ValueError):
            return None
        if figures.pop("key", None) != key:
            shutil.rmtree(folder, ignore_errors=True)
            return None
        return figures

    def keep_strip(self, number: int, key: str, figures: Mapping[str, Any], layers: Layers) -> None:
        """Write the layers of a strip; it counts as done once its figures are there."""
        folder = self._strip(number)
        folder.mkdir(exist_ok=True)
        names = []
        for i, (name, plane) in enumerate(layers):
            np.save(folder / f"{i}.npy", plane, allow_pickle=False)
            names.append(name)
        part = folder / "figures.part"
        part.write_text(json.dumps({**figures, "names": names, "key": key}))
        part.replace(folder / "figures.json")

    def together(self, strips: int) -> Callable[[], Layers]:
        """The layers of all strips, one layer in memory at a time."""
        folders = [self._strip(k) for k in range(strips)]
        names: Sequence[str] = json.loads((folders[0] / "figures.json").read_text())["names"]

        def layers() -> Layers:
            for i, name in enumerate(names):
                yield name, np.concatenate([np.load(f / f"{i}.npy") for f in folders])

        return layers

    def _strip(self, number: int) -> Path:
        return self.folder / f"strip-{number}"
