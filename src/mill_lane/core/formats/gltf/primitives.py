"""The meshes of a document."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from dataclasses import astuple
from typing import Any

from mill_lane.core.formats.gltf.entries import Builder, Chunk, Json, geometry_of
from mill_lane.core.formats.gltf.keys import SUBDIVISION
from mill_lane.core.scene.model import Material, Mesh, Part
from mill_lane.core.subdivision.surface import cage_parts

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
    surface = mesh.subdivision
    if surface is not (was.subdivision if was else None):
        _keep_subdivision(b, entry, mesh, was)
    primitives: list[Json] = []
    cage: tuple[Part, ...] = ()
    whole = True
    found: dict[int, dict[tuple[int, int], Part]] = {}
    for number, part in enumerate(mesh.parts):
        m, k = part.source
        if 0 <= m < len(meshes_before) and m not in found:
            found[m] = {p.source: p for p in reversed(meshes_before[m].parts)}
        before = found.get(m, {}).get(part.source)
        own = copy.deepcopy(entries_before[m]["primitives"][k]) if before is not None else {}
        kept = before is not None and part.load is before.load
        if surface is not None:
            # Only the cage is written, however finely the surface is drawn.
            there = meshes_before[m].subdivision if before is not None else None
            kept = there is not None and there.read is surface.read
            if not kept:
                cage = cage or cage_parts(mesh)
        if not kept:
            whole = False
            _new_geometry(b, own, part if surface is None else cage[number], materials)
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


def _keep_subdivision(b: Builder, entry: Json, mesh: Mesh, was: Mesh | None) -> None:
    extras = entry.get("extras")
    kept: dict[str, Any] = dict(extras) if isinstance(extras, dict) else {}
    before, surface = kept.pop(SUBDIVISION, None), mesh.subdivision
    if surface is not None:
        there = was.subdivision if was else None
        if there is not None and there.read is surface.read and isinstance(before, dict):
            view = before["bufferView"]
        else:
            view = b.view(Chunk(surface.length, surface.read))
        kept[SUBDIVISION] = {
            "scheme": surface.scheme,
            "level": surface.level,
            "sizes": [list(astuple(size)) for size in surface.sizes],
            "bufferView": view,
        }
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
