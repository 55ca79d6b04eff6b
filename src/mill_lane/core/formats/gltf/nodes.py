"""Nodes, their lights and their animations, read from a glTF document."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from mill_lane.core.formats.gltf.accessors import read_accessor, read_floats
from mill_lane.core.formats.gltf.container import (
    Document,
    broken,
)
from mill_lane.core.formats.gltf.keys import path_in, unseen_by
from mill_lane.core.scene.model import (
    F64,
    Channel,
    Light,
    Node,
    Note,
)


def default_scene(root: dict[str, Any]) -> dict[str, Any]:
    """The scene that is shown, or all nodes where the file names none."""
    scenes = root.get("scenes", [])
    return (
        scenes[int(root.get("scene", 0))]
        if scenes
        else {"nodes": list(range(len(root.get("nodes", []))))}
    )


def light_of(entry: dict[str, Any]) -> Light:
    """The light of an entry of KHR_lights_punctual."""
    kind = entry["type"]
    if kind not in ("point", "spot", "directional"):
        raise ValueError(f"light type {kind}")
    spot = entry.get("spot", {})
    return Light(
        name=str(entry.get("name") or kind),
        kind=kind,
        color=tuple(float(x) for x in entry.get("color", (1, 1, 1))),  # type: ignore[arg-type]
        intensity=float(entry.get("intensity", 1.0)),
        range=float(entry.get("range", float("inf"))),
        inner_cone=float(spot.get("innerConeAngle", 0.0)),
        outer_cone=float(spot.get("outerConeAngle", np.pi / 4)),
    )


def nodes_of(document: Document, lights: int) -> tuple[list[Node], set[int]]:
    """The nodes in tree order, parents first, and the numbers in the file that were met."""
    root = document.json
    entries = root.get("nodes", [])
    parents = [-1] * len(entries)
    for i, entry in enumerate(entries):
        for child in entry.get("children", []):
            document.item("nodes", child)
            if parents[child] >= 0:
                raise broken(document.name, f"node {child} has two parents")
            parents[child] = i
    _check_no_circle(document.name, parents)
    used: set[int] = set()
    stack = list(default_scene(root).get("nodes", []))
    while stack:
        i = stack.pop()
        document.item("nodes", i)
        if i not in used:
            used.add(i)
            stack += entries[i].get("children", [])
    nodes = []
    for i, entry in enumerate(entries):
        light = entry.get("extensions", {}).get("KHR_lights_punctual", {}).get("light", -1)
        mesh, camera = entry.get("mesh", -1), entry.get("camera", -1)
        if mesh != -1:
            document.item("meshes", mesh)
        if camera != -1:
            document.item("cameras", camera)
        if not -1 <= light < lights:
            raise broken(
                document.name, f"node {i} names light {light}, of which there are {lights}"
            )
        here = i in used  # things outside the default scene are kept in the file and not drawn
        matrix = np.array(entry["matrix"], float).reshape(4, 4).T if "matrix" in entry else None
        node = Node(
            name=str(entry.get("name") or f"node {i}"),
            parent=parents[i],
            translation=vector(entry.get("translation", (0, 0, 0)), 3),
            rotation=vector(entry.get("rotation", (0, 0, 0, 1)), 4),
            scale=vector(entry.get("scale", (1, 1, 1)), 3),
            matrix=matrix,
            mesh=mesh if here else -1,
            light=light if here else -1,
            camera=camera if here else -1,
            unseen_by=unseen_by(entry),
            path=path_in(entry),
            source=i,
        )
        if matrix is not None and not np.isfinite(matrix).all():
            raise broken(document.name, f"the matrix of node {i} holds numbers that are not finite")
        nodes.append(node)
    return nodes, used


def _check_no_circle(name: str, parents: list[int]) -> None:
    """Raise MillError where a node is its own ancestor; every node is walked over once."""
    walk = [0] * len(parents)  # the walk that came by first, from 1 on
    for i in range(len(parents)):
        j = i
        while j >= 0 and walk[j] == 0:
            walk[j] = i + 1
            j = parents[j]
        if j >= 0 and walk[j] == i + 1:
            raise broken(name, f"node {j} is its own ancestor")


def vector(values: Any, n: int) -> Any:
    """A tuple of n finite numbers; ValueError where it is none."""
    out = tuple(float(x) for x in values)
    if len(out) != n or not np.isfinite(out).all():
        raise ValueError(f"{values} is not {n} finite numbers")
    return out


def _morphs(document: Document, node: int | None, path: str) -> bool:
    """Whether a channel blends the shapes of a mesh: `deform.weights_of` plays it."""
    nodes, meshes = document.json.get("nodes", []), document.json.get("meshes", [])
    if path != "weights" or node is None or not 0 <= node < len(nodes):
        return False
    mesh = nodes[node].get("mesh", -1)
    known = 0 <= mesh < len(meshes)
    return known and any(p.get("targets") for p in meshes[mesh].get("primitives", []))


def animate(document: Document, nodes: list[Node], notes: list[Note]) -> list[Node]:
    """Give nodes the channels of the animations that move them."""
    # By node and by what is moved: of several the last counts.
    channels: dict[int, dict[str, Channel]] = {}
    # Channels share their times and often their values.
    known: dict[tuple[Any, int], F64] = {}

    def read(accessor: Any, width: int) -> F64:
        key = (accessor, width)
        if key not in known:
            known[key] = (
                read_floats(document, accessor, width)
                if width > 1
                else read_accessor(document, accessor)[:, 0]
            ).astype(float)
        return known[key]

    others = 0
    for animation in document.json.get("animations", []):
        for c in animation["channels"]:
            target, sampler = c["target"], animation["samplers"][c["sampler"]]
            node = target.get("node")
            if node is None or target["path"] not in ("translation", "rotation", "scale"):
                others += not _morphs(document, node, target["path"])
                continue
            document.item("nodes", node)
            times = read(sampler["input"], 1)
            values = read(sampler["output"], 4 if target["path"] == "rotation" else 3)
            interpolation = sampler.get("interpolation", "LINEAR")
            keys = len(values) // 3 if interpolation == "CUBICSPLINE" else len(values)
            if (
                keys != len(times)
                or not (np.diff(times) > 0).all()
                or not np.isfinite(values).all()
            ):
                raise broken(
                    document.name,
                    f"the animation of node {node} has keys that do not fit its times",
                )
            channels.setdefault(node, {})[target["path"]] = Channel(
                target["path"], interpolation, times, values
            )
    if others:
        what = "1 animation channel of another kind is"
        if others > 1:
            what = f"{others} animation channels of other kinds are"
        notes.append(Note("animation_not_played", "kept", f"{what} kept, not played."))
    return [
        replace(n, channels=tuple(channels[i].values())) if i in channels else n
        for i, n in enumerate(nodes)
    ]
