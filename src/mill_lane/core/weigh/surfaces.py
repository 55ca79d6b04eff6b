"""Subdivision surfaces: what they hold at each level, and how long their edges are."""

from __future__ import annotations

import numpy as np

from mill_lane.core.scene.model import F64, Geometry, Mesh, Scene
from mill_lane.core.scene.subdivision import MOST_LEVELS
from mill_lane.core.subdivision.dice import dice
from mill_lane.core.subdivision.surface import cage_of
from mill_lane.core.weigh.analysis import MeshRow, SurfaceRow, vertex_bytes
from mill_lane.core.weigh.frames import Track

NEAREST = 1e-3  # metres that a camera may come near
MEASURED = 100_000  # triangles up to which a level is made to measure its edges


def surface_row(mesh: Mesh) -> SurfaceRow | None:
    """What a mesh holds at each level; None where it is no surface."""
    said = mesh.subdivision
    if said is None:
        return None
    return SurfaceRow(
        scheme=said.scheme,
        level=said.level,
        sizes=list(said.sizes),
        widths=[vertex_bytes(p) for p in mesh.parts],
    )


def with_longest_edges(scene: Scene, row: MeshRow, track: Track, height: int) -> MeshRow:
    """The row of a surface with its longest edge at each level, in pixels of a picture of `height`
    rows, seen face on from where the camera comes nearest; measured while levels are small.
    """
    surface = row.subdivision
    if surface is None or row.nearest_m is None:
        return row
    pixel = track.pixel(max(row.nearest_m, NEAREST), height)
    scale = largest_scale(row.index, scene.instances, track.matrices) / pixel
    cage = cage_of(scene.meshes[row.index])
    edges: list[float] = []
    for level in range(MOST_LEVELS + 1):
        if level and surface.triangles(level) > MEASURED:
            break
        quads = level > 0 and surface.scheme != "loop"
        made = [g for g in dice(cage, level) if g is not None]
        edges.append(scale * max(longest_edge(g, quads) for g in made))
    known = surface.model_copy(update={"edges": edges})
    return row.model_copy(update={"subdivision": known})


def longest_edge(g: Geometry, quads: bool) -> float:
    """The longest side of any triangle, in the mesh's own unit; of quads, which are cut into two
    triangles one after the other, without where they are cut.
    """
    corners = g.positions[g.triangles].astype(float)
    sides = np.linalg.norm(corners - np.roll(corners, -1, 1), axis=2)
    if quads:  # corners 0, 1, 2 and 0, 2, 3
        sides = np.concatenate([sides[0::2, :2], sides[1::2, 1:]])
    return float(sides.max())


def largest_scale(mesh: int, instances: list[tuple[int, int]], matrices: F64) -> float:
    """By how much the largest copy of a mesh is enlarged.

    `matrices` are those of all nodes to the world, (F, N, 4, 4).
    """
    nodes = [node for node, m in instances if m == mesh]
    return float(np.linalg.norm(matrices[:, nodes, :3, :3], 2, axis=(2, 3)).max(initial=0.0))


def diced_row(row: MeshRow, level: int) -> MeshRow:
    """The row of a surface drawn at another level."""
    surface = row.subdivision
    if surface is None or surface.level == level:
        return row
    geometry, acceleration = surface.bytes(level)
    triangles = surface.triangles(level)
    k = triangles / max(row.triangles, 1)
    finer = {
        "subdivision": surface.model_copy(update={"level": level}),
        "triangles": triangles,
        "vertices": surface.vertices(level),
        "uv_vertices": surface.vertices(level) if row.uv_vertices else 0,
        "geometry_bytes": geometry,
        "acceleration_bytes": acceleration,
        "edge_px": None if row.edge_px is None else row.edge_px / k**0.5,
        "triangles_per_px": None if row.triangles_per_px is None else row.triangles_per_px * k,
    }
    return row.model_copy(update=finer)
