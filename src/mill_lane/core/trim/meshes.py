"""Choices that name a mesh, and the rows of meshes after a trim."""

from __future__ import annotations

from mill_lane.core.errors import MillError
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import Choice
from mill_lane.core.weigh.analysis import Analysis, MeshRow


def chosen_mesh(scene: Scene, choice: Choice) -> int:
    """The number of the mesh that a choice names.

    Raises
    ------
    MillError
        Where the scene has no such mesh.
    """
    index = choice.target.index
    if choice.target.kind != "mesh" or not 0 <= index < len(scene.meshes):
        raise MillError(f"The scene has no mesh “{choice.target.name}”.", "Stage it again.")
    return index


def with_meshes(analysis: Analysis, rows: list[MeshRow]) -> Analysis:
    """The analysis with other meshes; what they add up to goes with them."""
    return analysis.model_copy(
        update={
            "meshes": rows,
            "triangles": sum(m.triangles * m.copies for m in rows),
            "unique_triangles": sum(m.triangles for m in rows),
            "instances": sum(m.copies for m in rows),
        }
    )


def with_copies(analysis: Analysis) -> list[list[MeshRow]]:
    """Every mesh that is no copy, with its copies after it; the heaviest first."""
    groups: dict[int, list[MeshRow]] = {
        m.index: [m] for m in analysis.meshes if m.duplicate_of is None
    }
    for m in analysis.meshes:
        if m.duplicate_of is not None:
            groups.setdefault(m.duplicate_of, []).append(m)
    return sorted(groups.values(), key=lambda rows: -rows[0].memory_bytes)
