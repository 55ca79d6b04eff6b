"""Handing a stage back: what was not touched stays as it stood, with its paths and its kinds.

The flattened stage that came with the scene is opened again; pictures are put in the place of their
tokens, what is gone from the scene is switched off, what changed is written over.
"""

from __future__ import annotations

import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.blob import inside
from mill_lane.core.formats.meshes.soup import unit_rows, whole
from mill_lane.core.formats.pictures_out import write_pictures
from mill_lane.core.formats.units import UNITS, correction
from mill_lane.core.formats.usd.editing import Editor
from mill_lane.core.formats.usd.geometry_out import put_geometry
from mill_lane.core.formats.usd.kept import TOKEN
from mill_lane.core.formats.usd.rays import put_rays
from mill_lane.core.formats.usd.rematerial import put_materials
from mill_lane.core.progress import Progress
from mill_lane.core.scene.model import Geometry, Mesh, Note, Part, Scene
from mill_lane.core.scene.pose import world_matrices
from mill_lane.core.words import plural


def restage(scene: Scene, path: Path, progress: Progress) -> list[Note]:
    """Write a scene that came from USD over the stage that it came from.

    Parameters
    ----------
    scene : Scene
        With a stage.
    path : Path
        .usda or .usdc; a folder of textures is written beside it, and what else the stage names
        under its own relative path.
    progress : callable

    Returns
    -------
    list of Note
        What could not be handed back.
    """
    from pxr import Sdf, Usd

    from mill_lane.core.formats.usd.read import read_stage

    folder = path.with_name(f"{path.stem}-textures")
    files = {}
    if scene.images:
        files = {i: f"{folder.name}/{n}" for i, n in write_pictures(scene, folder).items()}
    path.unlink(missing_ok=True)
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".stage-") as name:
        kept = Path(name) / "stage.usdc"
        kept.write_bytes(bytes(scene.stage.read()))
        layer = Sdf.Layer.CreateNew(str(path))
        layer.TransferContent(Sdf.Layer.FindOrOpen(str(kept)))
        progress(0.3, "the stage as it was")
        before = read_stage(kept)
        stage = Usd.Stage.Open(layer)
        # What is missing keeps the name under which it was looked for.
        named = {i: f"./{file}" for i, file in files.items()}
        tokens = {m.path: named.get(i, m.name) for i, m in enumerate(scene.images) if m.path}
        tokens |= sets_of(tokens)
        _put_pictures(layer, tokens)
        progress(0.6, "what changed")
        notes = put_changes(Editor(stage), scene, before, files)
    write_files(scene, path.parent)
    progress(1.0, "written")
    return notes


def write_files(scene: Scene, folder: Path) -> None:
    """Write what goes along with a stage, by its path below a folder."""
    for name, data in scene.stage_files.items():
        file = inside(folder, name)
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data.read())


def put_changes(editor: Editor, scene: Scene, before: Scene, files: dict[int, str]) -> list[Note]:
    """Write over a stage what a scene has otherwise, and save it.

    Parameters
    ----------
    editor : Editor
    scene, before : Scene
        As it is, and as the stage has it.
    files : dict
        The written pictures, by the index of the image: paths below the stage's folder.

    Returns
    -------
    list of Note
        What has no place in the stage.
    """
    from pxr import UsdGeom

    stage = editor.stage
    to_stage: NDArray[np.float64] = np.linalg.inv(correction(scene)).astype(np.float64)
    if scene.read_as is not None:
        UsdGeom.SetStageMetersPerUnit(stage, UNITS[scene.read_as[0]])
        UsdGeom.SetStageUpAxis(stage, scene.read_as[1].upper())
    notes = put_materials(editor, scene, before, files)
    _put_meshes(editor, scene, before, to_stage)
    # What is switched off is no longer shared: that comes after what is written for all.
    notes += _switch_off(stage, scene, before)
    was = {n.path: n.unseen_by for n in before.nodes if n.path}
    changed = {n.path: n.unseen_by for n in scene.nodes if n.unseen_by != was.get(n.path, ())}
    put_rays(stage, {path: rays for path, rays in changed.items() if path in was})
    others = editor.save()
    if others:
        text = (
            f"{plural(others, 'layer')} below the stage {'was' if others == 1 else 'were'} written "
            "over: what instances share cannot be changed from above."
        )
        notes.append(Note("shared_layer_changed", "look", text))
    if editor.stuck:
        text = (
            f"{plural(len(editor.stuck), 'change')} could not be written into the stage: what "
            "instances share stands in a variant, or in a package."
        )
        notes.append(Note("change_left_out", "lost", text))
    return notes


def sets_of(tokens: dict[str, str]) -> dict[str, str]:
    """The names of whole sets of tiles, by the token of the set."""
    out = {}
    for token, file in tokens.items():
        base, dot, tile = token.rpartition(".")
        if dot and tile.isdigit():
            out[f"{base}.<UDIM>"] = file.replace(f".{tile}.", ".<UDIM>.")
    return out


def _put_pictures(layer: Any, tokens: dict[str, str]) -> None:
    """Name the written files where their tokens stand; what has none keeps no file."""
    from pxr import Sdf

    def visit(path: Any) -> None:
        spec = layer.GetAttributeAtPath(path) if path.IsPropertyPath() else None
        if spec is None:
            return
        value = spec.default
        if isinstance(value, Sdf.AssetPath) and value.path.startswith(TOKEN):
            spec.default = Sdf.AssetPath(tokens.get(value.path, ""))

    layer.Traverse(Sdf.Path.absoluteRootPath, visit)


def _switch_off(stage: Any, scene: Scene, before: Scene) -> list[Note]:
    """Deactivate what stands in the stage and is gone from the scene; hide scattered copies."""
    from pxr import UsdGeom

    gone = {n.path for n in before.nodes if n.path} - {n.path for n in scene.nodes}
    hidden: dict[str, list[int]] = {}
    stuck = 0
    for path in sorted(gone):
        if "[" in path:
            instancer, _, rest = path.partition("[")
            hidden.setdefault(instancer, []).append(int(rest.partition("]")[0]))
            continue
        prim = stage.GetPrimAtPath(path)
        while prim and prim.IsInstanceProxy():
            prim = prim.GetParent()
            if prim and prim.IsInstance():
                prim.SetInstanceable(False)
                prim = stage.GetPrimAtPath(path)
        if prim:
            prim.SetActive(False)
        else:
            stuck += 1
    for at, numbers in hidden.items():
        _hide(UsdGeom.PointInstancer.Get(stage, at), numbers)
    if stuck:
        text = f"{stuck} objects that are gone from the scene could not be taken from the stage."
        return [Note("not_taken_out", "lost", text)]
    return []


def _hide(instancer: Any, numbers: list[int]) -> None:
    """Hide copies of an instancer by number, beside those that the stage hides already.

    Copies are hidden by their ids, which are their numbers where the stage gives none.
    """
    ids, hidden = instancer.GetIdsAttr().Get(), instancer.GetInvisibleIdsAttr()
    more = {int(ids[k]) if ids else k for k in numbers}
    times = hidden.GetTimeSamples()
    for time in times:
        hidden.Set(sorted(more | set(hidden.Get(time) or ())), time)
    if not times:
        hidden.Set(sorted(more | set(hidden.Get() or ())))


def _put_meshes(editor: Editor, scene: Scene, before: Scene, to_stage: NDArray[np.float64]) -> None:
    """Write the vertices of meshes that are others now.

    `to_stage` brings what is read otherwise than the stage says back to where it says it is.
    """
    from pxr import UsdGeom

    were = {n.path: i for i, n in enumerate(before.nodes) if n.path and n.mesh >= 0}
    stood, stands = world_matrices(before, 0.0), world_matrices(scene, 0.0)
    done: set[str] = set()
    written: set[tuple[str, Any]] = set()
    for i, node in enumerate(scene.nodes):
        if node.mesh < 0 or node.path not in were or "[" in node.path or node.path in done:
            continue
        done.add(node.path)
        at = were[node.path]
        mesh, was = scene.meshes[node.mesh], before.meshes[before.nodes[at].mesh]
        seen = editor.stage.GetPrimAtPath(node.path)
        # In the space in which the stage's own vertices stand.
        moved = np.linalg.inv(stood[at]) @ to_stage @ stands[i]
        still = bool(np.allclose(moved, np.eye(4), atol=1e-9))
        if not seen or not seen.IsA(UsdGeom.Mesh):
            continue
        # A surface stays declared as it was, however finely it is drawn here.
        if mesh.subdivision is not None and was.subdivision is not None:
            continue
        # A copy that is drawn as another mesh has the same triangles: it stays as it is.
        if (not still and mesh.triangles == was.triangles) or (still and _same(mesh, was)):
            continue
        prim = editor.prim(node.path)
        key = (prim.GetStage().GetRootLayer().identifier, prim.GetPath()) if prim else None
        if key is None or key in written:
            continue
        written.add(key)
        parts = [p for p in mesh.parts if p.triangles]
        subsets = _subsets(seen, scene, parts)
        g = whole(parts)
        put_geometry(UsdGeom.Mesh(prim), g if still else carried(g, moved))
        for name, faces in subsets.items():
            subset = UsdGeom.Subset(prim.GetStage().OverridePrim(prim.GetPath().AppendChild(name)))
            subset.CreateIndicesAttr(faces)


def _subsets(prim: Any, scene: Scene, parts: list[Part]) -> dict[str, list[int]]:
    """The triangles of each material subset of a mesh, by the name of the subset; of parts that
    were put together in their order.
    """
    from pxr import UsdShade

    out = {}
    for subset in UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets():
        bound, _ = UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()
        path = str(bound.GetPath()) if bound else ""
        faces: list[int] = []
        first = 0
        for p in parts:
            if p.material >= 0 and scene.materials[p.material].path == path:
                faces += range(first, first + p.triangles)
            first += p.triangles
        out[str(subset.GetPrim().GetName())] = faces
    return out


def carried(g: Geometry, matrix: NDArray[np.float64]) -> Geometry:
    """A geometry with a matrix (4, 4) put into its vertices; a mirrored one goes round again."""
    m = matrix[:3, :3]
    mirrored = float(np.linalg.det(m)) < 0
    triangles = g.triangles[:, [0, 2, 1]] if mirrored else g.triangles
    return replace(
        g,
        positions=(g.positions.astype(float) @ m.T + matrix[:3, 3]).astype(np.float32),
        normals=unit_rows(g.normals.astype(float) @ np.linalg.inv(m)),
        triangles=np.ascontiguousarray(triangles),
    )


def _same(a: Mesh, b: Mesh) -> bool:
    """Whether two meshes have the same triangles at the same places."""
    if a.triangles != b.triangles:
        return False
    if len(a.parts) != len(b.parts):  # cut at the borders of tiles
        return np.array_equal(_soup(a), _soup(b))
    for p, q in zip(a.parts, b.parts, strict=True):
        g, h = p.load(), q.load()
        if not np.array_equal(g.positions[g.triangles], h.positions[h.triangles]):
            return False
    return True


def _soup(mesh: Mesh) -> NDArray[np.float32]:
    """The corners of all triangles, (T, 9), whichever part they belong to."""
    g = whole(mesh.parts)
    rows = g.positions[g.triangles].reshape(-1, 9)
    return np.ascontiguousarray(rows[np.lexsort(rows.T)])
