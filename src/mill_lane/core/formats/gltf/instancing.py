"""Copies that one node places (EXT_mesh_gpu_instancing)."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from mill_lane.core.formats.gltf.accessors import read_floats
from mill_lane.core.formats.gltf.container import Document, broken
from mill_lane.core.scene.model import Node, Scene

NAME = "EXT_mesh_gpu_instancing"
WIDTHS = {"TRANSLATION": 3, "ROTATION": 4, "SCALE": 3}
MOST_COPIES = 2_000_000


def spread(document: Document, nodes: list[Node]) -> list[Node]:
    """The nodes, with one below each instancing node for every copy, at the end of the list.

    These `placed` nodes are no entries of the file: as long as nothing is done to them they are
    written as the extension that they came from.
    """
    out = list(nodes)
    for i, node in enumerate(nodes):
        entry: dict[str, Any] = document.json["nodes"][node.source]
        said = entry.get("extensions", {}).get(NAME)
        if said is None or node.mesh < 0:
            continue
        found = {
            name: read_floats(document, said["attributes"][name], width).astype(float)
            for name, width in WIDTHS.items()
            if name in said["attributes"]
        }
        counts = {len(v) for v in found.values()}
        if len(counts) != 1 or len(out) + max(counts) > MOST_COPIES:
            raise broken(document.name, f"the copies of node {i} do not fit together")
        out[i] = replace(node, mesh=-1)
        for k in range(counts.pop()):
            at = {name: tuple(values[k].tolist()) for name, values in found.items()}
            if not all(np.isfinite(v).all() for v in at.values()):
                raise broken(document.name, f"copy {k} of node {i} stands nowhere")
            out.append(
                Node(
                    f"{node.name} {k}",
                    parent=i,
                    translation=at.get("TRANSLATION", (0.0, 0.0, 0.0)),
                    rotation=at.get("ROTATION", (0.0, 0.0, 0.0, 1.0)),
                    scale=at.get("SCALE", (1.0, 1.0, 1.0)),
                    mesh=node.mesh,
                    unseen_by=node.unseen_by,
                    placed=True,
                )
            )
    return out


def as_the_file_has_it(scene: Scene, before: Scene) -> tuple[Scene, Scene, set[int]]:
    """Take the copies out that are still placed as the file has them.

    Parameters
    ----------
    scene, before : Scene
        As it is, and as it was read.

    Returns
    -------
    scene, before : Scene
        With the copies of a node as nodes of their own only where something was done to them.
    respread : set of int
        Numbers in the file of the nodes whose copies are nodes of their own now.
    """
    had: dict[int, list[Node]] = {}
    for n in before.nodes:
        if n.placed:
            had.setdefault(before.nodes[n.parent].source, []).append(n)
    if not had:
        return scene, before, set()
    # Copies stand behind all nodes of the file, so that nothing else is numbered anew.
    first = next(i for i, n in enumerate(before.nodes) if n.placed)
    has: dict[int, list[Node]] = {}
    for n in scene.nodes:
        if n.placed:
            has.setdefault(scene.nodes[n.parent].source, []).append(n)
    same = {
        k
        for k, copies in had.items()
        if [_standing(n, scene) for n in has.get(k, [])] == [_standing(n, before) for n in copies]
    }
    keep = [
        i
        for i, n in enumerate(scene.nodes)
        if not (n.placed and scene.nodes[n.parent].source in same)
    ]
    number = {old: new for new, old in enumerate(keep)}
    nodes = tuple(
        replace(scene.nodes[i], parent=number.get(scene.nodes[i].parent, -1)) for i in keep
    )
    before = replace(before, nodes=before.nodes[:first])
    return replace(scene, nodes=nodes), before, set(had) - same


def _standing(n: Node, scene: Scene) -> tuple[object, ...]:
    """What a copy is: where it stands, and which of the file's meshes it shows."""
    mesh = scene.meshes[n.mesh].source if n.mesh >= 0 else -1
    return (n.translation, n.rotation, n.scale, n.matrix is None, mesh, n.unseen_by)
