"""STL: triangles and nothing else, as text or in binary records of 50 bytes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.meshes.soup import Ints, checked, damaged, flat_geometry, scene_of
from mill_lane.core.scene.model import Scene

HEADER = 84  # 80 bytes of any text, then the number of triangles, uint32
RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])


def read_stl(path: Path) -> Scene:
    """The triangles of an STL file.

    Its own normals are left out: the order of the corners says them too.

    Raises MillError when it is cut short or damaged.
    """
    data = path.read_bytes()
    corners = _text(path.name, data) if _is_text(data) else _binary(path.name, data)
    positions = np.ascontiguousarray(corners.reshape(-1, 3))
    triangles: Ints = np.arange(len(positions)).reshape(-1, 3)
    checked(path.name, positions, triangles)
    return scene_of(
        path.stem,
        [(path.stem, [(-1, flat_geometry(positions, None, triangles))])] if len(triangles) else [],
    )


def _is_text(data: bytes) -> bool:
    # Binary files may begin with "solid" as well; their size gives them away.
    if len(data) >= HEADER and len(data) == HEADER + 50 * int.from_bytes(data[80:84], "little"):
        return False
    return data.lstrip()[:5].lower() == b"solid" and b"facet" in data[:4096]


def _binary(name: str, data: bytes) -> NDArray[np.float32]:
    if len(data) < HEADER:
        raise damaged(name, f"it has {len(data)} bytes, and its header alone takes {HEADER}")
    count = int.from_bytes(data[80:84], "little")
    if len(data) < HEADER + 50 * count:
        raise damaged(
            name,
            f"{count:,} triangles take {HEADER + 50 * count:,} bytes, and it has {len(data):,}",
        )
    return np.ascontiguousarray(np.frombuffer(data, RECORD, count, HEADER)["corners"])


def _text(name: str, data: bytes) -> NDArray[np.float32]:
    lines = [x.split()[1:] for x in data.splitlines() if x.lstrip()[:6].lower() == b"vertex"]
    if len(lines) % 3 or any(len(x) != 3 for x in lines):
        raise damaged(name, "its corners do not come in threes of three numbers")
    try:
        return np.array(lines, np.float64).astype(np.float32).reshape(-1, 3, 3)
    except (ValueError, OverflowError) as e:
        raise damaged(name, "a corner is not a number") from e
