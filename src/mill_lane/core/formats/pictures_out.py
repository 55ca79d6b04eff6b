"""The pictures of a scene as files beside it, each under a name of its own."""

from __future__ import annotations

import re
from pathlib import Path

from mill_lane.core.formats.pictures import ENDINGS
from mill_lane.core.scene.model import Scene

UNSAFE = re.compile(r"[^A-Za-z0-9_-]+")


def plain(name: str, spare: str) -> str:
    """A name that every program reads: letters, digits, - and _."""
    return UNSAFE.sub("_", name).strip("_")[:60] or spare


def write_pictures(scene: Scene, folder: Path) -> dict[int, str]:
    """Write the encoded pictures that are there, as they are; returns their file names by image."""
    folder.mkdir(parents=True, exist_ok=True)
    out: dict[int, str] = {}
    for i, image in enumerate(scene.images):
        if image.missing:
            continue
        name = f"{plain(Path(image.name).stem, 'picture')}_{i}{ENDINGS.get(image.mime, '.png')}"
        (folder / name).write_bytes(image.read())
        out[i] = name
    return out
