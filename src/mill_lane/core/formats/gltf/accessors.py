"""Typed arrays out of a document (glTF 2.0, sections 3.6 and 5.1)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.gltf.container import Document, broken

COMPONENTS: dict[int, Any] = {
    5120: np.dtype("<i1"),
    5121: np.dtype("<u1"),
    5122: np.dtype("<i2"),
    5123: np.dtype("<u2"),
    5125: np.dtype("<u4"),
    5126: np.dtype("<f4"),
}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
LARGEST_COUNT = 2**31 - 1
LARGEST_EMPTY = 64 * 10**6  # bytes of an accessor that is nowhere in the file: all zeros


def read_accessor(document: Document, index: Any) -> NDArray[Any]:
    """The values of an accessor, (count, width), as stored; sparse entries are put in place.

    Raises MillError when it points outside its buffer or has a type that is not read.
    """
    a = document.item("accessors", index)
    try:
        dtype, width, count = COMPONENTS[a["componentType"]], WIDTHS[a["type"]], int(a["count"])
    except (KeyError, TypeError, ValueError) as e:
        raise broken(document.name, f"accessor {index} has no readable type or count") from e
    if not 0 < count <= LARGEST_COUNT:
        raise broken(document.name, f"accessor {index} has a count of {count}")
    if "bufferView" in a:
        values = _strided(
            document, a["bufferView"], int(a.get("byteOffset", 0)), dtype, width, count
        )
    elif count * width * dtype.itemsize > LARGEST_EMPTY:
        raise broken(
            document.name,
            f"accessor {index} has a count of {count:,} and no data; without data up to "
            f"{LARGEST_EMPTY // 10**6} MB are made",
        )
    else:
        values = np.zeros((count, width), dtype)
    if "sparse" in a:
        values = values.copy()
        s = a["sparse"]
        n = int(s["count"])
        at = _strided(
            document,
            s["indices"]["bufferView"],
            int(s["indices"].get("byteOffset", 0)),
            COMPONENTS[s["indices"]["componentType"]],
            1,
            n,
        )[:, 0].astype(np.int64)
        if at.size and int(at.max()) >= count:
            raise broken(document.name, f"accessor {index} has sparse entries beyond its end")
        values[at] = _strided(
            document,
            s["values"]["bufferView"],
            int(s["values"].get("byteOffset", 0)),
            dtype,
            width,
            n,
        )
    return values


def read_floats(document: Document, index: Any, width: int) -> NDArray[np.float32]:
    """An accessor as float32 (count, width), normalised integers divided as section 3.6.2.2
    says.
    """
    a = document.item("accessors", index)
    values = read_accessor(document, index)
    if values.shape[1] != width:
        raise broken(
            document.name, f"accessor {index} has {values.shape[1]} values where {width} are wanted"
        )
    if values.dtype.kind == "f":
        return np.ascontiguousarray(values, np.float32)
    out = values.astype(np.float32)
    if a.get("normalized"):
        info = np.iinfo(values.dtype)
        out = np.maximum(out / np.float32(info.max), np.float32(-1.0))
    return out


def _strided(
    document: Document, view: Any, offset: int, dtype: np.dtype[Any], width: int, count: int
) -> NDArray[Any]:
    v = document.item("bufferViews", view)
    size = dtype.itemsize * width
    stride = int(v.get("byteStride", 0)) or size
    if stride < size or offset < 0:
        raise broken(
            document.name, f"bufferView {view} has a stride of {stride} for items of {size} bytes"
        )
    data = document.view(view).read(offset, stride * (count - 1) + size)
    return np.ndarray((count, width), dtype, data, 0, (stride, dtype.itemsize))
