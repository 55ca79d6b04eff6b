"""From a `Scene` to a GLB."""

from __future__ import annotations

import json
import os
import struct
from pathlib import Path
from typing import Any

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf.container import MISSHAPEN, misshapen
from mill_lane.core.formats.gltf.entries import Chunk
from mill_lane.core.formats.gltf.patch import document_of
from mill_lane.core.progress import Progress, of_megabytes, silent
from mill_lane.core.scene.model import Scene

GLB_LIMIT = 2**32 - 1  # the header's length field has 32 bits


def write_glb(scene: Scene, path: Path, progress: Progress = silent) -> None:
    """Write the scene as one GLB, which appears under its name only when it is whole.

    Parameters
    ----------
    scene : Scene
        Where it was read from glTF, what was not touched stays byte for byte.
    path : Path
    progress : callable
        Told how far it is, from 0 to 1, and may stop it.

    Raises
    ------
    MillError
        When it would be larger than a GLB can be, or when a source ends early.

    References
    ----------
    Khronos Group, glTF 2.0 specification, section 4 (GLB).
    """
    try:
        root, chunks = document_of(scene)
    except MISSHAPEN as e:  # of what is kept as it came, something is of no shape that can be
        raise misshapen(scene.name, e) from e
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
            written = 0
            for c in chunks:
                data = c.make()
                size = data.nbytes if isinstance(data, np.ndarray) else len(data)
                if size != c.length:
                    raise MillError(
                        f"A block of the scene has {size} bytes instead of {c.length}.",
                        "Try again.",
                    )
                f.write(data.tobytes() if isinstance(data, np.ndarray) else data)
                f.write(b"\0" * (_padded(size) - size))
                written += c.length
                progress(written / max(binary, 1), f"writing: {of_megabytes(written, binary)}")
            f.flush()
            os.fsync(f.fileno())
        temporary.replace(path)
    finally:
        temporary.unlink(missing_ok=True)


def _padded(n: int) -> int:
    return n + -n % 4
