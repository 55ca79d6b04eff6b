"""Skins and morph targets, posed at a time (glTF 2.0, sections 3.7.2.2 and 3.7.3)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from mill_lane.core.formats.gltf.accessors import read_accessor, read_floats
from mill_lane.core.formats.gltf.container import Document, broken
from mill_lane.core.formats.gltf.geometry import Attributes, load_geometry
from mill_lane.core.scene.model import F32, F64, Geometry, Mesh, Node, Note, Part, Scene
from mill_lane.core.scene.pose import world_matrices

SPREAD = 5  # times over the animation at which the box of a moving mesh is taken


@dataclass(frozen=True, eq=False)
class Weights:
    """The keys of morph weights: times (K,), values (K, targets), 3 K rows for a cubic spline."""

    interpolation: str
    times: F64
    values: F64

    def at(self, time: float) -> F64:
        """The weights at a time in seconds, (targets,)."""
        cubic = self.interpolation == "CUBICSPLINE"
        knots = self.values[1::3] if cubic else self.values
        if time <= self.times[0]:
            return np.asarray(knots[0])
        if time >= self.times[-1]:
            return np.asarray(knots[-1])
        k = int(np.searchsorted(self.times, time, side="right")) - 1
        if self.interpolation == "STEP":
            return np.asarray(knots[k])
        span = self.times[k + 1] - self.times[k]
        t = float((time - self.times[k]) / span)
        if cubic:
            t2, t3 = t * t, t * t * t
            return np.asarray(
                (2 * t3 - 3 * t2 + 1) * knots[k]
                + span * (t3 - 2 * t2 + t) * self.values[3 * k + 2]
                + (-2 * t3 + 3 * t2) * knots[k + 1]
                + span * (t3 - t2) * self.values[3 * k + 3]
            )
        return np.asarray((1 - t) * knots[k] + t * knots[k + 1])


def weights_of(document: Document) -> dict[int, Weights]:
    """The animated morph weights, by the number of the node."""
    out = {}
    for animation in document.json.get("animations", []):
        for c in animation["channels"]:
            if c["target"].get("path") != "weights" or c["target"].get("node") is None:
                continue
            sampler = animation["samplers"][c["sampler"]]
            how = sampler.get("interpolation", "LINEAR")
            times = read_accessor(document, sampler["input"])[:, 0].astype(float)
            values = read_floats(document, sampler["output"], 1)[:, 0].astype(float)
            rows = len(times) * (3 if how == "CUBICSPLINE" else 1)
            if not len(times) or len(values) % rows or not (np.diff(times) > 0).all():
                why = f"the morph weights of node {c['target']['node']} do not fit their times"
                raise broken(document.name, why)
            out[c["target"]["node"]] = Weights(how, times, values.reshape(rows, -1))
    return out


@dataclass(frozen=True, eq=False)
class Rig:
    """What moves the vertices of a mesh at one node."""

    document: Document
    nodes: tuple[Node, ...]
    node: int
    joints: tuple[int, ...]
    inverse_binds: F64  # (J, 4, 4)
    still: F64  # morph weights where nothing animates them
    moving: Weights | None

    def joint_matrices(self, time: float) -> F64:
        """What carries a vertex at rest into the node's own space, for each joint (J, 4, 4)."""
        worlds = world_matrices(Scene("", nodes=self.nodes), time)
        return np.asarray(
            np.linalg.pinv(worlds[self.node]) @ worlds[list(self.joints)] @ self.inverse_binds
        )

    def deform(
        self, time: float, own: Attributes, positions: F32, normals: F32 | None
    ) -> tuple[F32, F32 | None]:
        """Positions and normals (V, 3) at a time."""
        p = positions.astype(np.float64)
        n = None if normals is None else normals.astype(np.float64)
        targets = own.entry.get("targets", [])
        weights = self.moving.at(time) if self.moving is not None else self.still
        for target, weight in zip(targets, weights, strict=False):
            if weight == 0:
                continue
            if "POSITION" in target:
                p += float(weight) * read_floats(self.document, target["POSITION"], 3)
            if "NORMAL" in target and n is not None:
                n += float(weight) * read_floats(self.document, target["NORMAL"], 3)
        if self.joints:
            p, n = self._skinned(time, own, p, n)
        return p.astype(np.float32), None if n is None else n.astype(np.float32)

    def _skinned(
        self, time: float, own: Attributes, p: F64, n: F64 | None
    ) -> tuple[F64, F64 | None]:
        matrices = self.joint_matrices(time)
        total = np.zeros((len(p), 4, 4))
        whole = np.zeros(len(p))
        for k in range(4):
            weights = own.floats(f"WEIGHTS_{k}", 4)
            if weights is None:
                break
            numbers = own.floats(f"JOINTS_{k}", 4)
            if numbers is None or numbers.max(initial=0) >= len(matrices):
                raise broken(self.document.name, "a mesh names a joint that its skin has not")
            for c in range(4):
                total += weights[:, c, None, None] * matrices[numbers[:, c].astype(np.int64)]
                whole += weights[:, c]
        total /= np.where(whole > 0, whole, 1.0)[:, None, None]
        total[whole <= 0] = np.eye(4)
        p = np.einsum("vij,vj->vi", total[:, :3, :3], p) + total[:, :3, 3]
        if n is not None:
            n = np.einsum("vij,vj->vi", total[:, :3, :3], n)
        return p, n


def rigged(
    document: Document, meshes: tuple[Mesh, ...], nodes: Sequence[Node], notes: list[Note]
) -> tuple[tuple[Mesh, ...], float]:
    """Give the parts of skinned and morphed meshes what poses them over time.

    Parameters
    ----------
    document : Document
    meshes : tuple of Mesh
    nodes : sequence of Node
    notes : list of Note
        What is told is added.

    Returns
    -------
    meshes : tuple of Mesh
    end : float
        Seconds until the last key of morph weights; 0 where there is none.
    """
    entries = document.json.get("meshes", [])
    moving = weights_of(document)
    out, posed, shared = list(meshes), [0, 0], 0
    end = max((float(w.times[-1]) for w in moving.values()), default=0.0)
    last = max([end, *(float(c.times[-1]) for n in nodes for c in n.channels)])
    done: dict[int, int] = {}
    for i, node in enumerate(nodes):
        if node.mesh < 0 or node.source < 0:
            continue
        own = document.json["nodes"][node.source]
        entry = entries[node.mesh]
        skin = own.get("skin")
        morphed = any(p.get("targets") for p in entry["primitives"])
        if skin is None and not morphed:
            continue
        if node.mesh in done:
            shared += 1
            continue
        done[node.mesh] = i
        rig = _rig(document, tuple(nodes), i, own, entry, moving.get(node.source))
        changes = last if rig.moving is not None or rig.joints else 0.0
        parts = tuple(_posed(document, rig, p, changes) for p in out[node.mesh].parts)
        out[node.mesh] = replace(out[node.mesh], parts=parts)
        posed[0] += skin is not None
        posed[1] += morphed
    for code, n, what in (("skins_posed", posed[0], "skin"), ("morphs_posed", posed[1], "mesh")):
        if n:
            many = f"{n} {what}{'es' if what == 'mesh' and n > 1 else 's' if n > 1 else ''}"
            how = "posed over time" if what == "skin" else "with morph targets, posed over time"
            notes.append(Note(code, "look", f"{many} {how}."))
    if shared:
        text = f"{shared} objects share a mesh that is posed: all take the pose of the first."
        notes.append(Note("rig_shared", "lost", text))
    return tuple(out), end


def _rig(
    document: Document,
    nodes: tuple[Node, ...],
    i: int,
    own: dict[str, Any],
    entry: dict[str, Any],
    moving: Weights | None,
) -> Rig:
    joints: tuple[int, ...] = ()
    binds = np.zeros((0, 4, 4))
    if own.get("skin") is not None:
        skin = document.item("skins", own["skin"])
        for joint in skin["joints"]:
            document.item("nodes", joint)
        joints = tuple(int(j) for j in skin["joints"])
        binds = np.broadcast_to(np.eye(4), (len(joints), 4, 4))
        if "inverseBindMatrices" in skin:
            values = read_floats(document, skin["inverseBindMatrices"], 16)[: len(joints)]
            if len(values) < len(joints):
                raise broken(document.name, "a skin has fewer matrices than joints")
            binds = values.reshape(-1, 4, 4).transpose(0, 2, 1).astype(np.float64)
    still = np.array(own.get("weights") or entry.get("weights") or [], np.float64)
    return Rig(document, nodes, i, joints, binds, still, moving)


def _posed(document: Document, rig: Rig, part: Part, end: float) -> Part:
    """The part with its vertices at times, its box that of a few of them."""
    m, k = part.source
    entry = document.json["meshes"][m]["primitives"][k]
    second = _second_set(part)

    def at(time: float) -> Geometry:
        return load_geometry(document, entry, second, partial(rig.deform, time))

    boxes = [at(t).positions for t in (np.linspace(0, end, SPREAD) if end > 0 else [0.0])]
    low, high = np.min([b.min(0) for b in boxes], 0), np.max([b.max(0) for b in boxes], 0)
    return replace(
        part,
        bounds_min=tuple(low.astype(float).tolist()),
        bounds_max=tuple(high.astype(float).tolist()),
        load=partial(at, 0.0),
        load_at=at if end > 0 else None,
    )


def _second_set(part: Part) -> int:
    """Which other UV set the part's reader was told to read."""
    load: Any = part.load
    return int(load.args[2])
