"""From a `Scene` to a GLB.

A scene that was read is handed back as it came: its own JSON, with only the replaced pictures
changed, so that what was not understood stays.  A scene made by code is written from the model.
"""

from __future__ import annotations

import copy
import json
import os
import struct
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf.container import Document
from mill_lane.core.formats.gltf.generate import generate
from mill_lane.core.formats.textures import grey_png
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Image, Scene

GLB_LIMIT = 2**32 - 1  # the header's length field has 32 bits


@dataclass(frozen=True)
class Chunk:
    """Bytes of the binary part, made when they are written."""

    length: int
    make: Callable[[], bytes | NDArray[Any]]


def write_glb(scene: Scene, path: Path, progress: Progress = silent) -> None:
    """Write the scene as one GLB.  It appears under its name only when it is whole.

    Raises MillError when it would be larger than a GLB can be, or when a source ends early.
    """
    if isinstance(scene.origin, Document):
        root, chunks = _rewrite(scene, scene.origin)
    else:
        root, sources = generate(scene)
        chunks = [Chunk(n, make) for n, make in sources]
    _write(root, chunks, path, progress)


def _write(root: dict[str, Any], chunks: list[Chunk], path: Path, progress: Progress) -> None:
    binary = sum(_padded(c.length) for c in chunks)
    root["buffers"] = [{"byteLength": binary}] if chunks else []
    if not chunks:
        del root["buffers"]
    text = json.dumps(root, separators=(",", ":"), ensure_ascii=False).encode()
    text += b" " * (-len(text) % 4)
    total = 12 + 8 + len(text) + (8 + binary if chunks else 0)
    if total > GLB_LIMIT:
        raise MillError(
            f"The scene would be {total / 1e9:.1f} GB; a GLB can hold 4.29 GB.",
            "Trim its textures first.",
        )
    temporary = path.with_name(path.name + ".part")
    try:
        with temporary.open("wb") as f:
            f.write(struct.pack("<4sII", b"glTF", 2, total))
            f.write(struct.pack("<II", len(text), 0x4E4F534A) + text)
            if chunks:
                f.write(struct.pack("<II", binary, 0x004E4942))
            for i, c in enumerate(chunks):
                data = c.make()
                size = data.nbytes if isinstance(data, np.ndarray) else len(data)
                if size != c.length:
                    raise MillError(
                        f"A block of the scene has {size} bytes instead of {c.length}.",
                        "Try again.",
                    )
                f.write(data.tobytes() if isinstance(data, np.ndarray) else data)
                f.write(b"\0" * (_padded(size) - size))
                progress((i + 1) / len(chunks), "writing the scene")
            f.flush()
            os.fsync(f.fileno())
        temporary.replace(path)
    finally:
        temporary.unlink(missing_ok=True)


def _padded(n: int) -> int:
    return n + -n % 4


def _rewrite(scene: Scene, document: Document) -> tuple[dict[str, Any], list[Chunk]]:
    root = copy.deepcopy(document.json)
    views = root.setdefault("bufferViews", [])
    sources: list[Chunk] = []
    for i in range(len(views)):
        blob = document.view(i)
        sources.append(Chunk(blob.length, blob.read))
    for i, (entry, image) in enumerate(zip(root.get("images", []), scene.images, strict=True)):
        data, mime = _picture(entry, image)
        entry.pop("uri", None)
        entry["mimeType"] = mime
        if "bufferView" not in entry or _shared(root, entry["bufferView"], i):
            entry["bufferView"] = len(views)
            views.append({"buffer": 0})
            sources.append(data)
        else:
            sources[entry["bufferView"]] = data
    at = 0
    for view, chunk in zip(views, sources, strict=True):
        view["buffer"], view["byteOffset"], view["byteLength"] = 0, at, chunk.length
        at += _padded(chunk.length)
    if not views:
        del root["bufferViews"]
    return root, sources


def _shared(root: dict[str, Any], view: int, image: int) -> bool:
    others = (e.get("bufferView") for j, e in enumerate(root["images"]) if j != image)
    return view in others or any(a.get("bufferView") == view for a in root.get("accessors", []))


def _picture(entry: dict[str, Any], image: Image) -> tuple[Chunk, str]:
    if image.missing:
        entry["extras"] = {"mill_lane_missing": image.name}
        grey = grey_png()
        return Chunk(len(grey), lambda: grey), "image/png"
    return Chunk(image.file_bytes, image.read), image.mime
