"""The content of a scene as one number, whatever files it was read from."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np

from mill_lane.core.scene.model import Scene

# What the readers keep for themselves, and words: none of it is in the picture.
LEFT_OUT = {
    "origin",
    "stage",
    "stage_files",
    "stage_root",
    "stage_variants",
    "stage_left_out",
    "variant_sets",
    "keep",
    "notes",
    "source",
    "tiles",
}
TIMES = (0.0, 0.4, 1.7, 4.1)  # seconds at which meshes are looked at that deform


def scene_digest(scene: Scene) -> str:
    """SHA-256 of all that a picture of the scene depends on, in hexadecimal.

    Geometry, encoded pictures, materials, lights, cameras, nodes and their motion.  Two scenes of
    the same digest are rendered to the same bits; reading takes about a second a gigabyte.

    Raises
    ------
    MillError, OSError
        Where a picture can no longer be read.
    """
    found = hashlib.sha256()
    _take(found, scene)
    return found.hexdigest()


def _take(found: Any, value: Any) -> None:
    """Add a value to the hash, with marks so that no two values run together."""
    if isinstance(value, np.ndarray):
        found.update(f"array {value.dtype} {value.shape} ".encode())
        found.update(np.ascontiguousarray(value).data)
    elif is_dataclass(value) and not isinstance(value, type):
        found.update(f"{type(value).__name__}(".encode())
        for one in fields(value):
            if one.name not in LEFT_OUT:
                found.update(f"{one.name}=".encode())
                own = getattr(value, one.name)
                poses = one.name == "load_at" and own is not None
                _take(found, [own(t) for t in TIMES] if poses else own)
        found.update(b")")
    elif isinstance(value, Mapping):
        found.update(b"{")
        for key in sorted(value, key=repr):
            found.update(f"{key!r}:".encode())
            _take(found, value[key])
        found.update(b"}")
    elif isinstance(value, (list, tuple)):
        found.update(f"[{len(value)} ".encode())
        for item in value:
            _take(found, item)
        found.update(b"]")
    elif isinstance(value, (bytes, bytearray)):
        found.update(f"bytes {len(value)} ".encode())
        found.update(value)
    elif callable(value):
        _take(found, value())
    else:
        found.update(f"{value!r};".encode())
