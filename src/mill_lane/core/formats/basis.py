"""Basis textures in KTX2: what their header says, and their pixels.

KTX File Format Specification 2.0 (Khronos), sections 3 and 4; Khronos Data Format Specification 1.4
for the descriptor.
"""

from __future__ import annotations

import struct

START = b"\xabKTX 20\xbb\r\n\x1a\n"
MIME = "image/ktx2"
ETC1S, UASTC = 163, 166  # colour models of the two kinds
RGBA_OF_UASTC, ALPHA_OF_ETC1S = 3, 15  # what a sample of the descriptor holds


def header_of(data: bytes) -> tuple[int, int, int] | None:
    """Width, height and channels of a Basis texture; None for whatever else KTX2 may hold.

    data : the first bytes of the file, its descriptor among them.
    """
    if not data.startswith(START) or len(data) < 80:
        return None
    kind, _, width, height, depth, layers, faces = struct.unpack("<7I", data[12:40])
    at, length = struct.unpack("<2I", data[48:56])
    if kind != 0 or depth or layers > 1 or faces != 1 or at + length > len(data) or length < 28:
        return None
    model, block = data[at + 12], int.from_bytes(data[at + 10 : at + 12], "little")
    samples = [
        data[at + 28 + 16 * k + 3] & 15 for k in range(max(0, min(block, length) - 24) // 16)
    ]
    if model == ETC1S:
        return width, height, 4 if ALPHA_OF_ETC1S in samples else 3
    if model == UASTC:
        return width, height, 4 if RGBA_OF_UASTC in samples else 3
    return None


def as_png(data: bytes) -> bytes:
    """The largest level as a PNG of four channels.  Raises ValueError for a damaged file."""
    import alktx2

    try:
        return bytes(alktx2.decode_ktx2_to_bytes(data, format="png")[0])
    except (RuntimeError, ValueError, OSError) as e:
        raise ValueError(str(e)) from e
