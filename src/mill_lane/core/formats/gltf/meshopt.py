"""Decoding buffer views that are compressed with EXT_meshopt_compression.

Khronos Group, EXT_meshopt_compression, "Appendix A: Bitstream" (attributes, triangles and indices)
and "Appendix B: Filters".
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.gltf.meshopt_streams import kernels

NAMES = ("EXT_meshopt_compression", "KHR_meshopt_compression")
ATTRIBUTES, TRIANGLES, INDICES = 0xA0, 0xE0, 0xD0  # upper half of a stream's first byte
TAIL = 32  # bytes at least at the end of a stream of attributes
Bytes = NDArray[np.uint8]


def decoded(data: bytes, count: int, stride: int, mode: str, filter_: str) -> bytes:
    """Decode a compressed view.

    Parameters
    ----------
    data : bytes
    count, stride : int
        Elements, and bytes of each.
    mode : str
        ATTRIBUTES, TRIANGLES or INDICES.
    filter_ : str
        NONE, OCTAHEDRAL, QUATERNION or EXPONENTIAL.

    Returns
    -------
    bytes
        count x stride of them.

    Raises
    ------
    ValueError
        Where the stream is damaged, or of an edition that is not read.
    """
    source = np.frombuffer(data, np.uint8)
    kinds = {"ATTRIBUTES": ATTRIBUTES, "TRIANGLES": TRIANGLES, "INDICES": INDICES}
    if mode not in kinds or not len(source) or int(source[0]) & 0xF0 != kinds[mode]:
        raise ValueError(f"a compressed view is no stream of {mode.lower()}")
    version = int(source[0]) & 0x0F
    if version > (0 if mode == "ATTRIBUTES" else 1):
        raise ValueError(f"a compressed view is of edition {version}, which is not read")
    if mode == "ATTRIBUTES":
        if not 0 < stride <= 256 or stride % 4:
            raise ValueError(f"a compressed view has elements of {stride} bytes")
        out = np.zeros((count, stride), np.uint8)
        end = kernels()[0](source, out)
        if end < 0 or end > len(source) - max(TAIL, stride):
            raise ValueError("a compressed view ends early")
        return _unfiltered(out, filter_).tobytes()
    if stride not in (2, 4) or (mode == "TRIANGLES" and count % 3):
        raise ValueError(f"a compressed view has {count} indices of {stride} bytes")
    numbers = np.zeros(count, np.uint32)
    walk = kernels()[1] if mode == "TRIANGLES" else kernels()[2]
    if not walk(source, numbers, version):
        raise ValueError("a compressed view ends early")
    return numbers.astype("<u2" if stride == 2 else "<u4").tobytes()


def _unfiltered(values: Bytes, name: str) -> NDArray[Any]:
    """Undo the filter of decoded elements, (count, stride)."""
    if name == "OCTAHEDRAL":
        raw = values.view("<i1" if values.shape[1] == 4 else "<i2")
        top = float(np.iinfo(raw.dtype).max)
        x, y, one = (raw[:, k].astype(np.float64) for k in range(3))
        z = one - np.abs(x) - np.abs(y)
        fold = np.minimum(z, 0.0)
        x, y = x + np.where(x >= 0, fold, -fold), y + np.where(y >= 0, fold, -fold)
        scale = top / np.maximum(np.sqrt(x * x + y * y + z * z), 1e-30)
        out = raw.copy()
        for k, axis in enumerate((x, y, z)):
            out[:, k] = _rounded(axis * scale)
        return out
    if name == "QUATERNION":
        raw = values.view("<i2")
        scale = np.sqrt(0.5) / (raw[:, 3] | 3)
        parts = raw[:, :3] * scale[:, None]
        last = np.sqrt(np.maximum(1.0 - (parts**2).sum(1), 0.0))
        largest = raw[:, 3] & 3
        out = np.zeros_like(raw)
        rows = np.arange(len(raw))
        for k in range(3):
            out[rows, (largest + 1 + k) & 3] = _rounded(parts[:, k] * 32767.0)
        out[rows, largest] = _rounded(last * 32767.0)
        return out
    if name == "EXPONENTIAL":
        words = values.view("<i4")
        mantissa = (words << 8) >> 8
        return np.ldexp(mantissa.astype(np.float32), words >> 24).astype("<f4")
    if name != "NONE":
        raise ValueError(f"a compressed view has the filter {name}, which is not read")
    return values


def _rounded(x: NDArray[np.float64]) -> NDArray[np.int64]:
    """To the nearest whole number, halves away from zero."""
    return np.trunc(x + np.copysign(0.5, x)).astype(np.int64)


def unpack(view: dict[str, Any]) -> None:
    """Make the entry of a compressed view that of a plain one, whose bytes are unpacked."""
    extensions = view.get("extensions", {})
    for name in NAMES:
        said = extensions.pop(name, None)
        if said is not None and said.get("mode") == "ATTRIBUTES":
            view["byteStride"] = said["byteStride"]
    if not extensions:
        view.pop("extensions", None)
