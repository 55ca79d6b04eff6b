"""Copies drawn as instances of one mesh, also where a transform is baked into their vertices."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from pydantic import BaseModel

from mill_lane.core.errors import MillError
from mill_lane.core.formats.meshes.soup import whole
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.alike import first_alike
from mill_lane.core.scene.model import F64, Node, Scene
from mill_lane.core.scene.pose import local_matrix
from mill_lane.core.trim.meshes import chosen_mesh, with_meshes
from mill_lane.core.trim.model import (
    Change,
    Choice,
    Nothing,
    OpenScene,
    Proposal,
    StandsFor,
    Target,
    Trim,
)
from mill_lane.core.weigh.analysis import Analysis, part_bytes
from mill_lane.core.weigh.congruence import Shape, fitted, shape_of


class Instances(Trim):
    """Draws copies of a mesh as instances of it."""

    name = "instances"
    title = "Copies to instances"
    parameters_type = Nothing
    choice_type = StandsFor
    exact = True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find meshes that are copies of others; see `Trim.propose`."""
        rows = {m.index: m for m in analysis.meshes}
        out = []
        for row in analysis.meshes:
            if row.duplicate_of is None or row.duplicate_of not in rows:
                continue
            first = rows[row.duplicate_of]
            out.append(
                Proposal(
                    trim=self.name,
                    target=Target(kind="mesh", index=row.index, name=row.name),
                    parameters={"of": first.index},
                    before=row.triangles,
                    after=0,
                    memory_before_bytes=row.memory_bytes,
                    memory_saved_bytes=row.memory_bytes,
                    facts={"of": first.name, "baked": row.duplicate_baked},
                    left_alone="its vertices move among themselves" if row.deforms else "",
                )
            )
        return sorted(out, key=lambda p: (-p.memory_saved_bytes, p.target.index))

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Draw the chosen meshes as the one that they are copies of; see `Trim.apply`.

        A mesh that is none after all, since another trim changed it, stays as it is.
        """
        nodes, changes = list(scene.nodes), []
        drawn: dict[int, list[int]] = {}
        for i, n in enumerate(nodes):
            drawn.setdefault(n.mesh, []).append(i)
        shapes: dict[int, Shape] = {}
        alike, parents = first_alike(scene), {n.parent for n in scene.nodes}
        for k, choice in enumerate(choices):
            mesh, of = chosen_mesh(scene, choice), self.checked(choice).of
            if of >= len(scene.meshes) or of == mesh:
                raise MillError(
                    f"“{choice.target.name}” is a copy of nothing.",
                    "Stage it again.",
                )
            matrix = carried(scene, of, mesh, alike, shapes)
            if matrix is not None:
                for i in drawn.get(mesh, []):
                    _draw(nodes, i, of, matrix, i in parents)
                sizes = [part_bytes(p) for p in scene.meshes[mesh].parts]
                changes.append(
                    Change(
                        kind=self.name,
                        target=scene.meshes[mesh].name,
                        key=choice.target.key,
                        from_=scene.meshes[mesh].triangles,
                        to=scene.meshes[of].name,
                        memory_saved_bytes=sum(a + b for a, b in sizes),
                    )
                )
            progress((k + 1) / len(choices), f"copies: {k + 1} of {len(choices)} meshes")
        return replace(scene, nodes=tuple(nodes)), changes

    def describe(self, change: Change) -> str:
        """Tell which mesh is drawn instead."""
        return f"instance of {change.to}" if isinstance(change.to, str) else "drawn as an instance"

    def explain(self, proposal: Proposal) -> str:
        """Tell what it is a copy of."""
        of = proposal.facts["of"]
        if proposal.facts.get("baked"):
            return f"{of} once more, with a rotation, scale or mirroring in its vertices"
        return f"the same vertices as {of}"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many meshes went."""
        return f"{len(changes)} cop{'ies' if len(changes) != 1 else 'y'} drawn as instances"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict that the chosen meshes are drawn as others; see `Trim.foresee`."""
        rows = {m.index: m for m in analysis.meshes}
        for choice in choices:
            gone, of = rows.get(choice.target.index), rows.get(self.checked(choice).of)
            if gone is not None and of is not None and gone is not of:
                del rows[gone.index]
                rows[of.index] = of.model_copy(update={"copies": of.copies + gone.copies})
        return with_meshes(analysis, list(rows.values()))


def carried(
    scene: Scene, number: int, copy: int, alike: list[int], shapes: dict[int, Shape]
) -> F64 | None:
    """The matrix (4, 4) that carries one mesh onto its copy; None where there is none.

    Parameters
    ----------
    scene : Scene
    number, copy : int
        Of the meshes.
    alike : list of int
        The first of the materials that look like each: see `scene.alike`.
    shapes : dict
        Keeps what was worked out of the first mesh, by its number.
    """
    of, mesh = scene.meshes[number], scene.meshes[copy]
    first_parts, parts = (
        [(p.triangles, alike[p.material] if p.material >= 0 else -1) for p in m.parts]
        for m in (of, mesh)
    )
    if first_parts != parts or any(p.load_at is not None for p in (*of.parts, *mesh.parts)):
        return None
    if number not in shapes:
        shapes.clear()  # copies of one mesh stand together on the list
        shapes[number] = shape_of(whole(of.parts))
    first, other = shapes[number].mesh, whole(mesh.parts)
    same = all(
        np.array_equal(getattr(first, k), getattr(other, k))
        for k in ("positions", "triangles", "normals")
    )
    if same:
        return np.eye(4)
    found = fitted(shapes[number], other)
    return None if found is None else np.concatenate([found, [[0.0, 0.0, 0.0, 1.0]]])


def _draw(nodes: list[Node], index: int, mesh: int, matrix: F64, has_children: bool) -> None:
    """Let a node draw another mesh, carried by a matrix in its own space."""
    node = nodes[index]
    if np.array_equal(matrix, np.eye(4)):
        nodes[index] = replace(node, mesh=mesh)
        return
    if has_children or node.camera >= 0 or node.light >= 0 or node.channels:
        # What hangs below, or moves it, goes by the node's own place.
        nodes[index] = replace(node, mesh=-1)
        nodes.append(Node(node.name, parent=index, matrix=matrix, mesh=mesh))
        return
    place = local_matrix(node, 0.0) @ matrix
    nodes[index] = replace(node, mesh=mesh, matrix=place, placed=False)
