"""A trim: things of many triangles are taken out of the scene, by node."""

from __future__ import annotations

from collections.abc import Sequence

from pydantic import BaseModel

from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.edit import remove_instances
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import Change, Choice, OpenScene, Proposal, Target, Trim
from mill_lane.core.weigh.analysis import Analysis


class Parameters(BaseModel):
    """How many triangles a thing may have."""

    most: int = 100


class Nothing(BaseModel):
    """Nothing to be chosen."""


class TakeOut(Trim):
    """Take heavy things out."""

    name = "take_out"
    title = "Take out"
    parameters_type = Parameters
    choice_type = Nothing

    def opens_scene(self, parameters: BaseModel) -> bool:
        """Nodes are no rows of the analysis."""
        return True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find the heavy ones."""
        assert isinstance(parameters, Parameters)
        found, rows = scene(), {m.index: m for m in analysis.meshes}
        out = []
        for i, node in enumerate(found.nodes):
            row = rows.get(node.mesh)
            if row is not None and row.triangles > parameters.most:
                target = Target(kind="object", index=i, name=node.name)
                saved = row.memory_bytes // row.copies
                out.append(
                    Proposal(
                        trim=self.name,
                        target=target,
                        parameters={},
                        before=row.triangles,
                        after=0,
                        memory_before_bytes=saved,
                        memory_saved_bytes=saved,
                    )
                )
        return sorted(out, key=lambda p: -p.memory_saved_bytes)

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Take the chosen ones out."""
        gone = {c.target.index for c in choices}
        changes = [Change(kind=self.name, target=scene.nodes[i].name) for i in sorted(gone)]
        return remove_instances(scene, gone), changes

    def describe(self, change: Change) -> str:
        """Tell that it is gone."""
        return "taken out"


TAKE_OUT = TakeOut()
