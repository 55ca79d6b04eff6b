"""The meshes of a glTF document."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf.container import Document
from mill_lane.core.formats.gltf.geometry import read_part
from mill_lane.core.formats.gltf.keys import SUBDIVISION
from mill_lane.core.scene.model import Material, Mesh, Note
from mill_lane.core.scene.subdivision import MOST_LEVELS, Size, Subdivision
from mill_lane.core.subdivision.cage import SCHEMES
from mill_lane.core.subdivision.surface import diced

# What of a mesh is not drawn: by the code of the note.
IGNORED = {
    "points_or_lines": "points or lines are not drawn",
    "no_positions": "no positions: nothing to draw",
}
# Vertices and triangles that meshes may come to: so many whatever the file, and for its size.
FREE_VERTICES, BYTES_A_VERTEX, MOST_USES = 20_000_000, 12, 8


def _subdivision(document: Document, entry: dict[str, Any], parts: int) -> Subdivision | None:
    """What we wrote of a subdivision surface ourselves; anything else of that name counts for
    nothing.
    """
    extras = entry.get("extras")
    said = extras.get(SUBDIVISION) if isinstance(extras, dict) else None
    if not isinstance(said, dict) or said.get("scheme") not in SCHEMES:
        return None
    level, rows, view = said.get("level"), said.get("sizes"), said.get("bufferView")
    if not (isinstance(level, int) and 0 <= level <= MOST_LEVELS and isinstance(view, int)):
        return None
    if not isinstance(rows, list) or len(rows) != parts:
        return None
    whole = all(
        isinstance(row, list)
        and len(row) == 5
        and all(isinstance(n, int) and 0 <= n < 2**32 for n in row)
        for row in rows
    )
    if not whole:
        return None
    cage = document.view(view)
    sizes = tuple(Size(*row) for row in rows)
    return Subdivision(said["scheme"], level, sizes, lambda: bytes(cage.read()), cage.length)


def read_meshes(
    document: Document, materials: Sequence[Material], notes: list[Note]
) -> tuple[Mesh, ...]:
    """The meshes of a document; what of them is not drawn is added to the notes.

    Raises MillError where they use their vertices over and over.
    """
    second_sets = [
        next((use.uv_set for _, use in m.uses() if use.uv_set > 0), 0) for m in materials
    ]
    out = []
    ignored: Counter[str] = Counter()
    # Meshes may use the same numbers so often that reading them takes far longer than the file's
    # size tells.
    size = sum(b.length for b in document.buffers)
    total, most = 0, FREE_VERTICES + size // BYTES_A_VERTEX * MOST_USES
    for i, entry in enumerate(document.json.get("meshes", [])):
        parts = []
        for number, p in enumerate(entry["primitives"]):
            mode = p.get("mode", 4)
            if mode in (0, 1, 2, 3):
                ignored["points_or_lines"] += 1
                continue
            if "POSITION" not in p["attributes"]:
                ignored["no_positions"] += 1
                continue
            parts.append(read_part(document, p, second_sets, (i, number)))
            total += parts[-1].vertices + parts[-1].triangles
            if total > most:
                raise _over_and_over(document, most)
        name = str(entry.get("name") or f"mesh {i}")
        mesh = Mesh(name, tuple(parts), source=i)
        surface = _subdivision(document, entry, len(parts))
        out.append(mesh if surface is None else diced(mesh, surface))
    notes += [
        Note(code, "kept", f"{n} mesh part{'s' * (n > 1)}: {IGNORED[code]}.")
        for code, n in ignored.items()
    ]
    return tuple(out)


def _over_and_over(document: Document, most: int) -> MillError:
    return MillError(
        f"{document.name} uses its vertices over and over: a file of its size is read up to "
        f"{most:,} vertices and triangles.",
        "Export it so that each mesh has its own vertices.",
        "Nothing was imported.",
    )
