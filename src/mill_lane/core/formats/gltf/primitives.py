"""The meshes of a document."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from typing import Any

from mill_lane.core.formats.gltf.entries import Builder, Json, geometry_of
from mill_lane.core.scene.model import Material, Mesh, Part

# What of a primitive belongs to its vertices and goes when they are others.
PACKED = ("KHR_draco_mesh_compression", "EXT_mesh_features", "EXT_structural_metadata")


def patch_mesh(
    b: Builder,
    entry: Json,
    mesh: Mesh,
    was: Mesh | None,
    meshes_before: Sequence[Mesh],
    entries_before: Sequence[Json],
    materials: Sequence[Material],
    material_at: Sequence[int],
) -> None:
    """Write a mesh over its entry.

    Parameters
    ----------
    b : Builder
    entry : dict
        Changed in place.
    mesh, was : Mesh
        As it is, and as it was read (None for a new one).
    meshes_before : sequence of Mesh
        All meshes as they were read; a part may come from any of them.
    entries_before : sequence of dict
        Their entries in the file.
    materials : sequence of Material
        The scene's.
    material_at : sequence of int
        Under which number each is written.
    """
    if was is None or mesh.name != was.name:
        entry["name"] = mesh.name
    if mesh.subdivision != (was.subdivision if was else None):
        _keep_subdivision(entry, mesh)
    primitives: list[Json] = []
    whole = True
    found: dict[int, dict[tuple[int, int], Part]] = {}
    for part in mesh.parts:
        m, k = part.source
        if 0 <= m < len(meshes_before) and m not in found:
            found[m] = {p.source: p for p in reversed(meshes_before[m].parts)}
        before = found.get(m, {}).get(part.source)
        own = copy.deepcopy(entries_before[m]["primitives"][k]) if before is not None else {}
        if before is None or part.load is not before.load:
            whole = False
            _new_geometry(b, own, part, materials)
        _dress(b, own, part, before, materials, material_at)
        primitives.append(own)
    # Points and lines are not drawn: they stay where they are as long as the mesh is there.
    undrawn = []
    if was is not None:
        drawn = {p.source[1] for p in was.parts}
        every = entry.get("primitives", [])
        undrawn = [p for k, p in enumerate(every) if k not in drawn]
        if undrawn and [p.source for p in mesh.parts] == [p.source for p in was.parts]:
            rest, given = iter(primitives), []
            for k, p in enumerate(every):
                given.append(next(rest) if k in drawn else p)
            primitives, undrawn = given, []
    entry["primitives"] = primitives + undrawn
    if not whole and not any("targets" in p for p in entry["primitives"]):
        entry.pop("weights", None)


def _keep_subdivision(entry: Json, mesh: Mesh) -> None:
    extras = entry.get("extras")
    kept: dict[str, Any] = dict(extras) if isinstance(extras, dict) else {}
    kept.pop("mill_lane_subdivision", None)
    if mesh.subdivision:
        kept["mill_lane_subdivision"] = list(mesh.subdivision)
    if kept:
        entry["extras"] = kept
    else:
        entry.pop("extras", None)


def _new_geometry(b: Builder, own: Json, part: Part, materials: Sequence[Material]) -> None:
    bumpy = part.material >= 0 and materials[part.material].normal_texture is not None
    for key in ("targets", "mode"):
        own.pop(key, None)
    extensions = own.get("extensions", {})
    for name in PACKED:
        extensions.pop(name, None)
    if not extensions:
        own.pop("extensions", None)
    own.update(geometry_of(b, part, bumpy and part.has_uvs))


def _dress(
    b: Builder,
    own: Json,
    part: Part,
    before: Part | None,
    materials: Sequence[Material],
    material_at: Sequence[int],
) -> None:
    """Set a primitive's material where it is another; a textured one needs a place on the
    texture.
    """
    wanted = material_at[part.material] if part.material >= 0 else -1
    if before is not None and wanted == before.material:
        return
    if wanted >= 0:
        own["material"] = wanted
        textured = bool(materials[part.material].uses())
        if textured and "TEXCOORD_0" not in own["attributes"]:
            own["attributes"]["TEXCOORD_0"] = b.zeros("VEC2", part.vertices)
    else:
        own.pop("material", None)
