"""Objects left out: what never matters, what is far or behind, what is named."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Sequence
from fnmatch import fnmatchcase
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, Field

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.edit import remove_instances
from mill_lane.core.scene.model import F64, Scene
from mill_lane.core.trim.meshes import with_meshes
from mill_lane.core.trim.model import (
    Change,
    Choice,
    OpenScene,
    Proposal,
    Target,
    Trim,
    Values,
)
from mill_lane.core.trim.pictures import with_rows
from mill_lane.core.weigh.analysis import LETTERS, Analysis, MeshRow, part_bytes
from mill_lane.core.weigh.frames import camera_track, frames_looked_at
from mill_lane.core.weigh.ledger import PLACEMENT_BYTES
from mill_lane.core.weigh.measure import box_distance

WORDS = {
    "never": "never seen, and lights nothing that is",
    "beyond": "never nearer than {nearest_m:.1f} m",
    "behind": "always behind the camera",
    "named": "named by you",
}


class Parameters(Values):
    """Which objects are proposed beside those that never matter."""

    beyond_m: Annotated[float | None, Field(gt=0, le=1e6, title="beyond, m")] = None
    behind: Annotated[bool, Field(title="behind the camera")] = False
    names: Annotated[str, Field(max_length=400, title="by name (* stands for anything)")] = ""


class Objects(Values):
    """Which copies of a mesh are left out, by their number among all placed objects."""

    objects: list[Annotated[int, Field(ge=0)]]


class LeaveOut(Trim):
    """Leaves objects out of the scene."""

    name = "leave_out"
    title = "Leave out"
    parameters_type = Parameters
    choice_type = Objects

    def opens_scene(self, parameters: BaseModel) -> bool:
        """Distances of single copies are no rows of the analysis."""
        return True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find objects that may be left out, together by mesh; see `Trim.propose`."""
        assert isinstance(parameters, Parameters)
        found = scene()
        seen = seen_objects(analysis, len(found.instances))
        nearest, behind = distances(found, analysis)
        patterns = [x.strip() for x in parameters.names.split(",") if x.strip()]
        reasons: dict[int, dict[str, list[int]]] = defaultdict(lambda: defaultdict(list))
        for i, (node, mesh) in enumerate(found.instances):
            name = found.nodes[node].name
            if any(fnmatchcase(name, x) for x in patterns):
                reasons[mesh]["named"].append(i)
            elif seen[i] == "never":
                reasons[mesh]["never"].append(i)
            elif parameters.beyond_m is not None and nearest[i] > parameters.beyond_m:
                reasons[mesh]["beyond"].append(i)
            elif parameters.behind and behind[i]:
                reasons[mesh]["behind"].append(i)
        rows = {m.index: m for m in analysis.meshes}
        out = [
            _proposal(
                self.name, rows[mesh], why, [float(nearest[i]) for x in why.values() for i in x]
            )
            for mesh, why in reasons.items()
            if mesh in rows
        ]
        return sorted(out, key=lambda p: (-p.memory_saved_bytes, -p.triangles_saved))

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Leave the chosen objects out; see `Trim.apply`."""
        instances = scene.instances
        gone: set[int] = set()
        changes = []
        for choice in choices:
            objects: list[int] = self.checked(choice).objects
            if any(i >= len(instances) for i in objects):
                raise MillError(
                    f"“{choice.target.name}” has copies that are not there.", "Stage it again."
                )
            nodes = {instances[i][0] for i in objects}
            mesh = scene.meshes[instances[objects[0]][1]] if objects else None
            copies = sum(m == choice.target.index for _, m in instances)
            sizes = [part_bytes(p) for p in mesh.parts] if mesh else []
            whole = len(nodes) == copies
            changes.append(
                Change(
                    kind=self.name,
                    target=choice.target.name,
                    key=choice.target.key,
                    from_=copies,
                    to=copies - len(nodes),
                    memory_saved_bytes=sum(a + b for a, b in sizes)
                    if whole
                    else PLACEMENT_BYTES * len(nodes),
                )
            )
            gone |= nodes
        if len(gone) >= len(instances):
            raise MillError("Nothing would be left of the scene.", "Take some off the list.")
        progress(1.0, "objects left out")
        return remove_instances(scene, gone), changes

    def describe(self, change: Change) -> str:
        """Tell how many of how many copies go."""
        if not change.to:
            return "left out" if change.from_ == 1 else f"all {change.from_:,} left out"
        return f"{change.from_ - change.to:,} of {change.from_:,} left out"

    def explain(self, proposal: Proposal) -> str:
        """Tell why."""
        return "; ".join(
            (f"{n:,} " if len(proposal.facts["why"]) > 1 else "")
            + WORDS[why].format(nearest_m=proposal.facts["nearest_m"])
            for why, n in proposal.facts["why"].items()
        )

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many objects went."""
        n = sum(c.from_ - c.to for c in changes)
        return f"{n:,} object{'s' * (n != 1)} left out"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict that the chosen copies are gone, and textures that only they used."""
        gone = {c.target.index: len(set(self.checked(c).objects)) for c in choices}
        rows = [
            m.model_copy(update={"copies": m.copies - gone.get(m.index, 0)})
            for m in analysis.meshes
        ]
        rows = [m for m in rows if m.copies > 0]
        used = {i for m in rows for i in m.images}
        idle = {
            t.index: t.model_copy(update={"memory_bytes": 0})
            for t in analysis.textures
            if t.memory_bytes and t.index not in used
        }
        return with_rows(with_meshes(analysis, rows), idle)


def seen_objects(analysis: Analysis, count: int) -> list[str]:
    """How each placed object matters to the picture; "" where that is not known."""
    letters = analysis.visibility.objects if analysis.visibility else ""
    return [LETTERS[x] for x in letters] if len(letters) == count else [""] * count


def distances(scene: Scene, analysis: Analysis) -> tuple[F64, NDArray[np.bool_]]:
    """How near each placed object comes, and whether it is always behind the camera.

    Returns
    -------
    nearest : array of float64, (objects,)
        Metres to the box round it.
    behind : array of bool, (objects,)
    """
    known = analysis.camera if analysis.camera in scene.camera_names else None
    track = camera_track(scene, frames_looked_at(scene.frames), 16 / 9, known)
    parts, owner = [], []
    for i, (node, mesh) in enumerate(scene.instances):
        for k, p in enumerate(scene.meshes[mesh].parts):
            parts.append((node, mesh, k, p))
            owner.append(i)
    nearest = np.full(len(scene.instances), math.inf)
    behind = np.ones(len(scene.instances), bool)
    lo, hi = track.boxes(parts)
    for f in range(len(track.positions)):
        k = f if len(lo) > 1 else 0
        np.minimum.at(nearest, owner, box_distance(track.positions[f : f + 1], lo[k], hi[k])[0])
        np.logical_and.at(behind, owner, ~track.in_front(f, lo[k], hi[k]))
    return nearest, behind


def _proposal(
    trim: str, row: MeshRow, why: dict[str, list[int]], near: Iterable[float]
) -> Proposal:
    objects = sorted(i for x in why.values() for i in x)
    all_of_it = len(objects) == row.copies
    saved = PLACEMENT_BYTES * len(objects) + (row.memory_bytes if all_of_it else 0)
    return Proposal(
        trim=trim,
        target=Target(kind="mesh", index=row.index, name=row.name),
        parameters={"objects": objects},
        before=row.copies,
        after=row.copies - len(objects),
        memory_before_bytes=row.memory_bytes,
        memory_saved_bytes=saved,
        triangles_saved=row.triangles * len(objects),
        facts={"why": {k: len(v) for k, v in why.items()}, "nearest_m": min(near)},
    )
