"""Meshes compressed with KHR_draco_mesh_compression, decoded by the codec's own library."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.gltf.container import Document, broken

NAME = "KHR_draco_mesh_compression"


def compressed(entry: dict[str, Any]) -> dict[str, Any] | None:
    """What a primitive says of its compressed form; None where it has none."""
    found = entry.get("extensions", {}).get(NAME)
    return found if isinstance(found, dict) else None


def decode_primitive(
    document: Document, entry: dict[str, Any]
) -> tuple[NDArray[np.uint32], dict[str, NDArray[Any]]]:
    """Decode a primitive.

    Parameters
    ----------
    document : Document
    entry : dict
        A primitive with the extension.

    Returns
    -------
    triangles : array of uint32, (T, 3)
    attributes : dict
        Arrays (V, width) by semantic, as stored: integers are not normalised yet.

    Raises
    ------
    MillError
        When the stream is damaged.
    """
    import DracoPy

    said = compressed(entry)
    assert said is not None
    data = document.view(said["bufferView"]).read()
    try:
        mesh = DracoPy.decode(bytes(data))
        faces = np.asarray(mesh.faces).reshape(-1, 3)
        attributes: dict[str, NDArray[Any]] = {}
        for semantic, number in said["attributes"].items():
            found = mesh.get_attribute_by_unique_id(number)
            if found is None:
                raise ValueError(f"{semantic} is not among what was compressed")
            attributes[semantic] = np.asarray(found["data"])
    except Exception as e:  # the library has kinds of its own
        why = f"a mesh compressed with Draco cannot be decoded ({e})"
        raise broken(document.name, why[:300]) from e
    return np.ascontiguousarray(faces, np.uint32), attributes


def normalised(values: NDArray[Any], wanted: bool) -> NDArray[np.float32]:
    """Values as float32, integers divided as glTF 2.0, section 3.6.2.2, says."""
    if values.dtype.kind == "f" or not wanted:
        return np.ascontiguousarray(values, np.float32)
    top = np.float32(np.iinfo(values.dtype).max)
    return np.maximum(values.astype(np.float32) / top, np.float32(-1.0))
