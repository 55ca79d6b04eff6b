"""The scene that was loaded last, kept for the next render of it."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from pathlib import Path

from mill_lane.core.formats.choices import parse_choices
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.progress import left_of, part
from mill_lane.core.render.load import Loaded, load, retextured
from mill_lane.core.render.texture_cache import TextureCache
from mill_lane.core.trim.shrink import shrink
from mill_lane.work.kinds.base import Report
from mill_lane.work.looking import forget_looker
from mill_lane.work.memory import give_back, reset_peak, resident

Sizes = Mapping[int, int]
Key = tuple[Path, str, tuple[tuple[int, int], ...]]
# What is kept, by file and sizes of textures, and the bytes that were resident before.  This
# process has no other state.
_warm: dict[Key, tuple[Loaded, int]] = {}


def forget_scene() -> None:
    """Let go of the scene that was loaded last."""
    _warm.clear()


def _key(path: Path, sizes: Sizes, choices: str) -> Key:
    return path, choices, tuple(sorted(sizes.items()))


def is_loaded(path: Path, sizes: Sizes, choices: str = "") -> bool:
    """Whether it is the scene that is kept."""
    return _key(path, sizes, choices) in _warm


def loaded_scene(
    path: Path,
    sizes: Sizes,
    threads: int,
    report: Report,
    choices: str = "",
    textures: Path | None = None,
) -> tuple[Loaded, int]:
    """Load a scene, unless it is there.

    Parameters
    ----------
    path : Path
    sizes : mapping
        The longest sides, pixels, of textures that are made smaller, by image.
    threads : int
    report : Report
    choices : str
        What is chosen of the file (`formats.choices`).
    textures : Path or None
        The folder where decoded textures are kept.

    Returns
    -------
    tuple of Loaded and int
        The scene in memory, and the bytes that were resident before it was.
    """
    key = _key(path, sizes, choices)
    if key in _warm:
        reset_peak()
        return _warm[key]
    kept, baseline = next((v for k, v in _warm.items() if k[:2] == key[:2]), (None, 0))
    _warm.clear()
    forget_looker()
    give_back()
    if kept is None:
        baseline = resident()
    reset_peak()
    scene = open_scene(path, choices=parse_choices(choices))
    report(0.0, "reading the scene")
    tell = _loading(report)
    if sizes:
        scene, _ = shrink(scene, dict(sizes), part(tell, 0.0, 0.3))
    cache = TextureCache(textures) if textures is not None else None
    if kept is None:
        loaded = load(scene, threads, part(tell, 0.3, 1.0) if sizes else tell, cache=cache)
    else:  # the same scene with other textures: what moves is posed anew in any case
        loaded = retextured(kept, scene, threads, part(tell, 0.3, 1.0), cache)
    del kept
    _warm[key] = loaded, baseline
    give_back()
    report.live = {"phase": "loading"}  # trees are posed yet
    return _warm[key]


def _loading(report: Report) -> Callable[[float, str], None]:
    began = time.monotonic()

    def tell(share: float, text: str) -> None:
        # Of loading alone: how long the rendering takes is not known before it goes on.
        pace = left_of(share, time.monotonic() - began)
        report.live = {"phase": "loading", **({} if pace is None else {"left": pace})}
        report(0.0, text)

    return tell
